"""What the simulated phone is told: where it stands and points, its settings, and what goes wrong."""

from dataclasses import dataclass

from vinter.core.camera.phones import Lens
from vinter.core.camera.projection import Pose
from vinter.core.errors import BadInput
from vinter.core.sky.site import Site

FAULTS = ("lamp", "sway", "cloud", "shake", "dew", "meteor", "person", "screen")


@dataclass(frozen=True, kw_only=True)
class Burst:
    """What the simulated phone is told: where it stands and points, and its settings. Times in Unix seconds.

    ``scene`` names what stands there, about the azimuth ``facing`` (the pose's unless said), drawn by
    ``ground_seed`` (``seed`` unless said); ``faults`` are kinds (``FAULTS``) with the frames they are in,
    none for all; ``cloud`` is the share of the sky under thin cloud.
    """

    site: Site
    lens: Lens
    start: float
    pose: Pose
    iso: int
    shutter: float
    count: int
    gap: float = 1.0
    portrait: bool = False
    seed: int = 1
    focus_error: float = 0.0
    make: str = "Marlet"
    model: str = "Marlet 7"
    traffic: bool = True
    compress: bool = True
    scene: str = ""
    facing: float | None = None
    ground_seed: int | None = None
    faults: tuple[tuple[str, tuple[int, ...]], ...] = ()
    cloud: float = 0.0

    def struck(self, fault: str, i: int) -> bool:
        """Whether a fault is in frame ``i``: named for it, or for all of them."""
        return any(kind == fault and (not frames or i in frames) for kind, frames in self.faults)

    def middle(self, i: int) -> float:
        """Unix time at mid-exposure of frame ``i``."""
        return self.start + i * (self.shutter + self.gap) + self.shutter / 2


def faults_from(text: str) -> list[tuple[str, tuple[int, ...]]]:
    """Faults by kind and frame from words as ``lamp:5+7,sway``: frames count from 0, none means all.

    BadInput names a kind that is not known, or a frame that is no number.
    """
    out = []
    for word in filter(None, (w.strip() for w in text.split(","))):
        kind, _, frames = word.partition(":")
        if kind not in FAULTS:
            raise BadInput(f"fault {kind!r} is not one of {', '.join(FAULTS)}")
        if not all(f.isdigit() for f in frames.split("+") if frames):
            raise BadInput(f"fault {word!r}: frames are numbers joined by +")
        out.append((kind, tuple(int(f) for f in frames.split("+") if f)))
    return out
