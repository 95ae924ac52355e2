"""Where each frame shows sky that may be combined: behind no ground, in no line of light."""

from pathlib import Path

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.frames.judging import compare
from vinter.core.stack.masking.sky_mask import usable_sky
from vinter.core.stack.prepare import PreparedFrames
from vinter.core.stack.run import Run

U8 = npt.NDArray[np.uint8]
Line = tuple[float, float, float, float]
CORRIDOR_PX, BEYOND_PX = 9, 60  # px beside and beyond a line of light, in which a frame gives no sky


def usable_of_reference(run: Run, burst: PreparedFrames) -> Path:
    """Usable sky of the reference's camera as .npy file."""
    common = run.folder / "usable.npy"
    flat = burst.registration.model is None and not run.settings.method.points
    if not common.exists():  # a process of the pool may be reading it
        np.save(common, np.full_like(burst.mask, 255) if flat else usable_sky(burst.mask))
    return common


def usable_parts(run: Run, burst: PreparedFrames) -> tuple[Path, dict[int, Path]]:
    """Usable sky of the reference's camera, and of the frames whose camera stood otherwise, as .npy files."""
    common = usable_of_reference(run, burst)
    crossed = {} if not run.settings.method.points else _crossed(burst)
    own: dict[int, Path] = {}
    seen: dict[bytes, Path] = {}
    for i in crossed if burst.mask.min() == 255 else ():
        own[i] = _without_lines(np.load(common), crossed[i], run.folder / f"crossed-{i}.npy")
    if burst.mask.min() == 255:
        return common, own
    for i, shift in burst.shifts.items():
        if shift.held and np.allclose(shift.homography, np.eye(3), atol=1.0):
            continue
        name = np.round(shift.homography, 3).tobytes()
        if name not in seen:
            seen[name] = run.folder / f"usable-{i}.npy"
            height, width = burst.mask.shape
            moved = cv2.warpPerspective(
                burst.mask, np.linalg.inv(shift.homography), (width, height), borderMode=cv2.BORDER_REPLICATE
            )
            np.save(seen[name], usable_sky(np.asarray(moved, np.uint8)))
        own[i] = seen[name]
    for i, lines in crossed.items():
        sky = np.load(own.get(i, common))
        own[i] = _without_lines(sky, lines, run.folder / f"crossed-{i}.npy")
    return common, own


def _crossed(burst: PreparedFrames) -> dict[int, list[Line]]:
    """Frames that something flew through, with its lines; what stands at one place in three frames did not
    fly."""
    used = burst.used
    judged = compare([m for i in used if (m := burst.frames[i].measure) is not None])
    return {i: m.streak_lines for i, m in zip(used, judged, strict=True) if m.streak_lines}


def _without_lines(sky: U8, lines: list[Line], path: Path) -> Path:
    """Usable sky without a corridor about lines of light, stored."""
    for x0, y0, x1, y1 in lines:
        way = np.array([x1 - x0, y1 - y0]) / max(float(np.hypot(x1 - x0, y1 - y0)), 1.0) * BEYOND_PX
        ends = [(round(x0 - way[0]), round(y0 - way[1])), (round(x1 + way[0]), round(y1 + way[1]))]
        cv2.line(sky, ends[0], ends[1], 0, 2 * CORRIDOR_PX + 1)
    np.save(path, sky)
    return path
