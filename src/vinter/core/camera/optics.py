"""How a lens is used: at which of its resolutions, and behind which clip-on."""

from dataclasses import dataclass, replace

import numpy as np

from vinter.core.camera.accessories import with_clip_on
from vinter.core.camera.phones import Lens
from vinter.core.errors import BadInput

PACKED = (
    0.9  # size of the full resolution's file against its count of pixels: noise packs worse, colour better
)
RESOLUTIONS = {"": "binned, as usual", "half": "between", "full": "full resolution"}
MERGED = "made by the phone from several readings: expect a merged file, not sensor data"
REARRANGED = "rearranged by the phone from blocks of one colour: try whether it is sensor data"


@dataclass(frozen=True)
class Optics:
    """A resolution by its key in ``RESOLUTIONS``, and the factor of a clip-on lens (1 for none)."""

    resolution: str = ""
    clip_on: float = 1.0

    def on(self, lens: Lens) -> Lens:
        """The lens used so; BadInput for a resolution it does not have or a factor out of bounds."""
        used = at_resolution(lens, self.resolution)
        return used if self.clip_on == 1 else with_clip_on(used, self.clip_on)


def resolutions(lens: Lens) -> list[str]:
    """Keys of the resolutions a lens has: more than one only where it bins pixels."""
    return list(RESOLUTIONS) if lens.binning > 1 else [""]


def megapixels(lens: Lens) -> float:
    """Millions of pixels of a file."""
    return lens.width * lens.height / 1e6


def at_resolution(lens: Lens, key: str) -> Lens:
    """The lens with the pixels of a resolution.

    Binning adds the counts of neighbouring pixels after they were read, so that a pixel of the full sensor
    has the read noise divided by their number along a side, and the well and dark current by their number.
    """
    if key not in RESOLUTIONS:
        raise BadInput(f"resolution {key!r} is not one of {', '.join(k or 'binned' for k in RESOLUTIONS)}")
    if key == "":
        return lens
    if key not in resolutions(lens):
        raise BadInput(f"the {lens.name} lens bins no pixels: it has one resolution")
    side = float(lens.binning) if key == "full" else float(np.sqrt(lens.binning))
    return replace(
        lens,
        pitch=lens.pitch / side,
        width=round(lens.width * side / 2) * 2,
        height=round(lens.height * side / 2) * 2,
        read_noise=tuple((iso, noise / side) for iso, noise in lens.read_noise),
        well=lens.full_well / side**2,
        dark_current=lens.dark_current / side**2,
        raw_megabytes=lens.raw_megabytes * side**2 * PACKED,
        binning=1,
        raw_kinds=("linear",) if key == "half" else lens.raw_kinds,
    )


def raw_words(lens: Lens, key: str) -> str:
    """What the RAW file of a resolution is likely to hold."""
    usual = "sensor data" if "sensor" in lens.raw_kinds else "merged by the phone"
    return {"": usual, "half": MERGED, "full": REARRANGED}[key]
