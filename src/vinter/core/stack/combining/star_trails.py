"""Star trails: the pauses between frames closed along the sky's own motion, and tails that fade."""

from dataclasses import dataclass, replace

import numpy as np
import numpy.typing as npt

from vinter.core.constants import SIDEREAL_ARCSEC
from vinter.core.stack.combining.plan import Source
from vinter.core.stack.registration.motion_model import RotationModel

Array = npt.NDArray[np.float64]
SKY_RATE = np.radians(SIDEREAL_ARCSEC / 3600)  # rad/s of the sky about its pole
LEAST_PX = 0.5  # px at the focal length: the width of a star fills a shorter gap
MOST_COPIES = 12  # copies: a longer pause is a pause, and stays one


@dataclass(frozen=True)
class Closed:
    """Copies of frames (index of the frame, rotation (3, 3) to be used with the model) and the pauses they
    close."""

    copies: tuple[tuple[int, Array], ...] = ()
    gaps: int = 0
    longest_s: float = 0.0
    left_open: int = 0


def _part(rotation: Array, share: float) -> Array:
    """A share of a rotation about its own axis."""
    from scipy.spatial.transform import Rotation

    return np.asarray(Rotation.from_rotvec(share * Rotation.from_matrix(rotation).as_rotvec()).as_matrix())


def close(model: RotationModel, exposures: list[float | None], aligned: list[bool]) -> Closed:
    """Copies of each frame, turned on by at most its own arc, that reach the start of the next one.

    ``exposures`` in s and ``aligned`` belong to the model's rotations, in order of time. The pause follows
    from the angle between two frames less the arc of one exposure, so no clock is needed. Frames without
    exposure or alignment have no copies.
    """
    copies: list[tuple[int, Array]] = []
    gaps, longest, left = 0, 0.0, 0
    for i in range(len(exposures) - 1):
        seconds = exposures[i]
        if not seconds or not aligned[i] or not aligned[i + 1]:
            left += 1
            continue
        onward = model.rotations[i + 1].T @ model.rotations[i]
        turned = float(np.arccos(np.clip((np.trace(onward) - 1) / 2, -1, 1)))
        arc = seconds * SKY_RATE
        gap = turned - arc
        if gap * model.focal < LEAST_PX:
            continue
        count = int(np.ceil(gap / arc))
        if count > MOST_COPIES:
            left += 1
            continue
        copies += [(i, _part(onward, gap * j / count / turned)) for j in range(1, count + 1)]
        gaps, longest = gaps + 1, max(longest, gap / SKY_RATE)
    return Closed(tuple(copies), gaps, round(longest, 1), left)


def with_copies(
    model: RotationModel, sources: list[Source], closed: Closed, tail: float
) -> tuple[RotationModel, list[Source]]:
    """The model and sources of a picture of trails: frames unmoved, then the copies; the oldest darker by the
    share ``tail``."""
    last = max(len(sources) - 1, 1)
    faded = [replace(s, fade=1 - tail * (1 - i / last)) for i, s in enumerate(sources)]
    rotations = [np.eye(3)] * len(sources) + [turned for _, turned in closed.copies]
    return replace(model, rotations=rotations), faded + [faded[i] for i, _ in closed.copies]
