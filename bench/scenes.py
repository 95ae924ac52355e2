"""How the stack does on night scenes of a generator that shares no code with it: a table.

usage: python bench/scenes.py [name ...]      (all without names; VINTER_SCENE_WIDTH sets the frames' width)

For each scene: overlap of the mask with the true sky and the true ground (intersection over union), error of
the stars' places over all frames (px, median, root mean square, worst), stars of the sky that the mask gives
to the ground, noise gained against the root of the count, and what is left of lines of light (% of the sky).
"""

import os
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

import cv2
import numpy as np
import numpy.typing as npt
import tifffile

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))
from scenes import BRIGHT, Scene, at, make, overlap, places, share_of_sky, sky_rays, star_errors

from vinter.core.stack.pipeline import Settings, stack
from vinter.core.versions import Data

WIDTH = int(os.environ.get("VINTER_SCENE_WIDTH", "2016"))
LINE = (0.1, 0.12, 0.8, 0.5, 320.0, True)


@dataclass(frozen=True)
class Case:
    """A scene with what is special about it, the kind of file, and how it is stacked."""

    scene: Data = field(default_factory=dict)
    kind: str = "raw"
    change: Callable[[list[Path]], None] | None = None


CASES = {
    "plain, conifers": Case(),
    "plain, another seed": Case({"seed": 4}),
    "hills": Case({"ground": "hills", "seed": 2}),
    "thin cloud": Case({"cloud": 0.5}),
    "lamp in 5 of 12": Case({"lamp": dict.fromkeys((2, 3, 6, 8, 10), 1.6)}),
    "turned phone": Case({"tilt": 8.0}),
    "mixed exposures": Case({"exposures": dict.fromkeys(range(0, 12, 2), 0.5)}),
    "three frames": Case({"count": 3}),
    "2 s frames": Case({"shutter": 2.0, "gap": 0.5}),
    "swaying trees": Case({"sway": 5.0}),
    "ground as the sky": Case({"ground_light": 0.95, "ground": "hills"}),
    "linear DNG": Case(kind="linear"),
    "JPEG": Case(kind="jpeg"),
    "10 bit, gain map": Case(kind="packed"),
    "an aeroplane": Case({"lines": {5: LINE}}),
}


def scene_of(case: Case) -> Scene:
    """The scene at the width that is tried."""
    scale = WIDTH / 4032
    wanted = dict(case.scene)
    if "sway" in wanted:
        wanted["sway"] *= scale
    return Scene(
        width=WIDTH,
        height=WIDTH * 3 // 4,
        focal=2800.0 * scale,
        stars=round(9000 * (0.35 + 0.65 * scale)),
        **wanted,
    )


def lost_stars(s: Scene, report: Data, mask: np.ndarray, sky: np.ndarray) -> int:
    """Bright stars well inside the true sky that the mask gives to the ground."""
    rays, flux = sky_rays(s)
    xy, front = places(s, rays[flux > BRIGHT], at(s, int(Path(report["reference"]).stem[1:])))
    xy = xy[front & (xy > 5).all(axis=1) & (xy < [s.width - 5, s.height - 5]).all(axis=1)].astype(int)
    well = cv2.erode((sky > 0.99).astype(np.uint8), np.ones((13, 13), np.uint8))
    xy = xy[well[xy[:, 1], xy[:, 0]] > 0]
    return int((mask[xy[:, 1], xy[:, 0]] < 128).sum())


def line_left(s: Scene, picture: np.ndarray) -> float | None:
    """Light along a line that one frame showed, over that beside it, in per cent of the sky."""
    if not s.lines:
        return None
    (x0, y0, x1, y1, *_), t = next(iter(s.lines.values())), np.linspace(0.05, 0.95, 1200)
    x, y = (x0 + t * (x1 - x0)) * s.width, (y0 + t * (y1 - y0)) * s.height
    way = np.array([(x1 - x0) * s.width, (y1 - y0) * s.height])
    across = np.array([-way[1], way[0]]) / np.hypot(*way)

    def light(off: float) -> npt.NDArray[np.generic]:
        px, py = (x + off * across[0]).round().astype(int), (y + off * across[1]).round().astype(int)
        return np.asarray(picture[py, px, 1])

    on = np.median([light(k) for k in (-1, 0, 1)])
    beside = np.median([light(k) for k in (-14, -11, -8, 8, 11, 14)])
    return float(100 * (on - beside) / beside)


def main() -> None:
    """Print the table."""
    wanted = sys.argv[1:] or list(CASES)
    print("scene                   sky ground  median    rms  worst lost  gain   left s")
    for name in wanted:
        case = CASES[name]
        s = scene_of(case)
        with tempfile.TemporaryDirectory() as folder:
            make(Path(folder) / "frames", s, case.kind)
            start = time.monotonic()
            out = Path(folder) / "out.tif"
            report = stack([Path(folder) / "frames"], out, Settings(workers=2)).report
            seconds = time.monotonic() - start
            mask = np.asarray(cv2.imread(str(out.with_suffix(".mask.png")), cv2.IMREAD_GRAYSCALE))
            picture = tifffile.imread(out)
        middle = int(Path(report["reference"]).stem[1:])
        sky = share_of_sky(s, s.sway * np.sin(1.7 * middle))
        iou, errors, left = overlap(mask, sky), star_errors(s, report, sky), line_left(s, picture)
        used = sum(r["used"] for r in report["frames"])
        gain = (report["noise_gain"] or np.nan) / np.sqrt(used)
        figures = [f"{v:6.3f}" for v in (*iou, np.median(errors), np.sqrt(np.mean(errors**2)))]
        figures += [f"{errors.max():6.2f}", f"{lost_stars(s, report, mask, sky):4d}", f"{gain:5.2f}"]
        figures += ["       " if left is None else f"{left:+5.1f} %", f"{seconds:.0f}"]
        print(f"{name:20s}", *figures, flush=True)


if __name__ == "__main__":
    main()
