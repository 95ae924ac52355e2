"""A take's frames as one burst: which fit together, by which lens, and where the tripod was bumped."""

from collections.abc import Callable
from dataclasses import dataclass, replace

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.errors import BadInput
from vinter.core.frames.judging import compare
from vinter.core.stack.ingest import Ingested
from vinter.core.stack.registration.bumps import Groups, find_bumps
from vinter.core.stack.registration.loose_fit import fit_loose
from vinter.core.stack.registration.motion_model import RotationModel, fit_rotation
from vinter.core.stack.registration.star_matching import Alignment, align, trimmed_rms, weights

Array = npt.NDArray[np.float64]
SHAKEN_RATIO = 2.2  # star width against the take's median beyond which a frame is left out


@dataclass(frozen=True)
class Registration:
    """Alignments of all frames, the lens model when it explains them, and the groups between which the camera
    moved."""

    reference: int
    alignments: list[Alignment]
    model: RotationModel | None
    groups: Groups
    loose: bool = False  # every frame turned on its own: the camera slipped unevenly

    @property
    def count(self) -> int:
        """Frames that are used."""
        return sum(a.used for a in self.alignments)

    def camera(self, i: int, focal: float, size: tuple[int, int]) -> Array:
        """Homography (3, 3) of things on the ground from frame i to the reference, by the bumps alone."""
        f = self.model.focal if self.model else focal
        k = np.array([[f, 0, (size[0] - 1) / 2], [0, f, (size[1] - 1) / 2], [0, 0, 1]])
        moved = (
            self.model.bumps[i]
            if self.model and self.model.bumps
            else self.groups.moved[self.groups.number[i]]
        )
        return np.asarray(k @ moved @ np.linalg.inv(k))


def in_order(frames: list[Ingested]) -> list[Ingested]:
    """Frames by time when all have one, else by name."""
    if all(f.time is not None for f in frames):
        return sorted(frames, key=lambda f: (f.time or 0.0, f.path.name))
    return sorted(frames, key=lambda f: f.path.name)


def reference_of(frames: list[Ingested], wanted: str) -> int:
    """The frame all others are laid on: the one named, or the middle one of the best verdict there is, beside
    the others (what a lamp lit has specks that others would be laid on)."""
    if wanted != "auto":
        names = [f.path.name for f in frames]
        if wanted not in names:
            raise BadInput(f"reference {wanted!r} is not among the frames that could be read")
        return names.index(wanted)
    measured = [i for i, f in enumerate(frames) if f.measure]
    judged = compare([m for f in frames if (m := f.measure) is not None])
    for verdicts in (("keep",), ("keep", "doubt")):
        good = [i for i, m in zip(measured, judged, strict=True) if m.verdict in verdicts]
        if good:
            return good[len(good) // 2]
    return len(frames) // 2


def left_out(frames: list[Ingested], reference: int) -> dict[int, str]:
    """Frames that cannot go into this stack, with the reason."""
    widths = [f.measure.fwhm_px for f in frames if f.measure and f.measure.stars > 20]
    typical = float(np.median(widths)) if widths else 0.0
    base = frames[reference]
    out = {}
    for i, f in enumerate(frames):
        assert f.measure is not None
        if f.size != base.size or (f.pattern is None) != (base.pattern is None):
            out[i] = f"{f.size[0]} x {f.size[1]} px {f.measure.kind}, the reference has another size or kind"
        elif typical and f.measure.fwhm_px > SHAKEN_RATIO * typical:
            out[i] = f"shaken or out of focus: stars {f.measure.fwhm_px:.1f} px wide against {typical:.1f}"
    return out


def _clock(frames: list[Ingested]) -> tuple[Array, bool]:
    """Midpoint of every exposure in s, and whether a clock tells it; else counts."""
    times = [
        f.time + (f.measure.exposure_s or 0) / 2 if f.time is not None and f.measure else None for f in frames
    ]
    known = [t for t in times if t is not None]
    if len(known) == len(frames) and len(set(known)) == len(frames):
        return np.array(known, float), True
    return np.arange(len(frames), dtype=float), False


def register(
    frames: list[Ingested], reference: int, aligned: Callable[[Registration], None] = lambda found: None
) -> Registration:
    """Align the frames that fit together and find one lens for them. ``aligned`` hears of the alignments
    before the lens is found.

    One turn about one pole explains most bursts; one whose camera was bumped needs its groups, one whose
    camera slipped a turn for every frame. When no lens explains the stars about as well as a free homography
    does, the homographies stay.
    """
    dropped = left_out(frames, reference)
    keep = [i for i in range(len(frames)) if i not in dropped]
    stars = [s for i in keep if (s := frames[i].stars) is not None]
    times, clocked = _clock([frames[i] for i in keep])
    size, focal, base = frames[reference].size, frames[reference].focal_px, keep.index(reference)
    found = align(stars, times, base)
    groups = find_bumps(found, times, clocked, base, size, focal)
    numbered = _numbered(groups, keep, len(frames))
    aligned(Registration(reference, _of_all(found, keep, dropped, len(frames)), None, numbered, False))
    steady = fit_rotation(stars, found, base, size, focal, groups)
    best = _explained([frames[i] for i in keep], found, steady, base)
    loose = False
    if best is None and steady is not None:
        best = _explained(
            [frames[i] for i in keep], found, fit_loose(stars, found, base, size, steady.focal), base
        )
        loose = best is not None
    alignments = _of_all(best[0] if best else found, keep, dropped, len(frames))
    model = _spread_over(best[1], keep, len(frames)) if best else None
    return Registration(reference, alignments, model, numbered, loose)


def _of_all(kept: list[Alignment], keep: list[int], dropped: dict[int, str], n: int) -> list[Alignment]:
    """The alignments of the kept frames among those of all frames."""
    out = [Alignment(False, dropped.get(i, "")) for i in range(n)]
    for place, i in enumerate(keep):
        out[i] = kept[place]
    return out


def _spread_over(model: RotationModel, keep: list[int], n: int) -> RotationModel:
    """The model of the kept frames counted in all frames."""
    rotations, bumps = [np.eye(3)] * n, [np.eye(3)] * n
    for place, i in enumerate(keep):
        rotations[i] = model.rotations[place]
        bumps[i] = model.bumps[place] if model.bumps else np.eye(3)
    return replace(model, rotations=rotations, bumps=bumps if model.bumps else None)


def _numbered(groups: Groups, keep: list[int], n: int) -> Groups:
    number = [0] * n
    for place, i in enumerate(keep):
        number[i] = groups.number[place]
    return replace(groups, number=number)


def _explained(
    frames: list[Ingested], alignments: list[Alignment], model: RotationModel | None, reference: int
) -> tuple[list[Alignment], RotationModel] | None:
    """Alignments by the lens model; None when it fits the stars worse than free homographies for more than a
    fifth of them."""
    if model is None:
        return None
    out, worse = [], 0
    target = frames[reference].stars
    assert target is not None
    for i, (f, a) in enumerate(zip(frames, alignments, strict=True)):
        if not a.used or i == reference or f.stars is None:
            out.append(a)
            continue
        places = f.stars.xy[a.pairs[:, 0]]
        there = model.to_reference(i, places)
        rms = trimmed_rms(there - target.xy[a.pairs[:, 1]], weights(f.stars, target, a.pairs))
        worse += rms > 1.25 * a.residual_px + 0.02
        h, _ = cv2.findHomography(places, there, 0)
        out.append(Alignment(True, "", h, rms, a.pairs))
    used = sum(a.used for a in alignments)
    return None if worse > 0.2 * used else (out, model)
