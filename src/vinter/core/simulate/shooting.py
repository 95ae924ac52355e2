"""A burst of the simulated phone written to a folder, with the truth beside it."""

import json
from collections.abc import Callable
from dataclasses import asdict, replace
from pathlib import Path

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.simulate.capture import Burst
from vinter.core.simulate.phone import SimulatedPhone

Array = npt.NDArray[np.float64]
TRUTH_LIMIT = 6.5  # V to which the truth names stars


def truth(camera: SimulatedPhone, names: list[str]) -> dict[str, object]:
    """What is really in the frames: star places, homographies to the middle frame, streaks, settings."""
    frames = [camera.stars_at(i) for i in range(camera.burst.count)]
    reference = frames[camera.burst.count // 2]
    out = []
    for i, (name, (index, x, y, v)) in enumerate(zip(names, frames, strict=True)):
        bright = v < TRUTH_LIMIT
        out.append(
            {
                "file": name,
                "time": camera.burst.middle(i),
                "homography": _fit(index, x, y, *reference[:3]),
                "stars": [
                    [int(a), round(b, 4), round(c, 4), round(d, 2)]
                    for a, b, c, d in zip(index[bright], x[bright], y[bright], v[bright], strict=True)
                ],
                "streaks": [asdict(s) for s in camera.streaks(i)],
            }
        )
    settings = asdict(replace(camera.burst, site=replace(camera.burst.site)))
    return {
        "settings": settings,
        "reference": names[camera.burst.count // 2],
        "mask": "truth.mask.png",
        "frames": out,
    }


def _fit(index: Array, x: Array, y: Array, ref_index: Array, ref_x: Array, ref_y: Array) -> list[list[float]]:
    """Homography by least squares over the stars that both frames show; no motion where there are too few."""
    _, a, b = np.intersect1d(index, ref_index, return_indices=True)
    if len(a) < 4:
        return [[float(i == j) for j in range(3)] for i in range(3)]
    h, _ = cv2.findHomography(np.c_[x[a], y[a]], np.c_[ref_x[b], ref_y[b]], 0)
    return [[float(v) for v in row] for row in h]


def shoot(burst: Burst, folder: Path, progress: Callable[[int, int], None] | None = None) -> list[Path]:
    """Write all frames of a burst, truth.json and truth.mask.png (255 = sky) into a folder."""
    folder.mkdir(parents=True, exist_ok=True)
    camera = SimulatedPhone(burst)
    paths = []
    for i in range(burst.count):
        paths.append(camera.write(i, folder))
        if progress:
            progress(i + 1, burst.count)
    (folder / "truth.json").write_text(json.dumps(truth(camera, [p.name for p in paths]), default=str))
    cv2.imwrite(str(folder / "truth.mask.png"), np.round(camera.ground.sky * 255).astype(np.uint8))
    return paths
