"""How even the suggested look leaves the sky: a table, and the pictures for the eye.

usage: python bench/looks.py [-o FOLDER] [-s SEED] [STACK.tif | NAME ...]    (all simulated ones without)

A picture is a stack's file, or the name of a simulated one (below), which is made anew by the seed (20) and
its place in the list. It is laid in a grid of 6 by 8 cells. A cell counts that is plain sky: 98 % of it by
the mask, and over 18 degrees from the plane of the galaxy by the solved field. Printed are the largest step
between neighbours (EV), the largest distance from the cell nearest to the centre (EV), the largest step in a*
and b* (CIE L*a*b*), the first rows of ground against the next (linear light, before it is rounded), and
the noise of the sky from pixel to pixel in luma, Cr and Cb (levels of 255). VINTER_LOOKS_WIDTH sets the width
of simulated frames.
"""

import argparse
import os
import sys
import tempfile
from collections.abc import Sequence
from dataclasses import dataclass, replace
from pathlib import Path

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.camera.phones import phone
from vinter.core.camera.projection import Pose, view_of
from vinter.core.finish.render import Renderer, to_8bit
from vinter.core.finish.scene import Scene
from vinter.core.finish.scene import scene_of as prepared
from vinter.core.finish.suggestion import suggest
from vinter.core.simulate.capture import Burst
from vinter.core.simulate.shooting import shoot
from vinter.core.sky.site import Site
from vinter.core.stack.examination import Circumstances, examine
from vinter.core.stack.file import read_about
from vinter.core.stack.pipeline import Settings, stack

Array = npt.NDArray[np.float64]
Picture = npt.NDArray[np.uint8] | npt.NDArray[np.float32]
ROWS, COLUMNS = 6, 8
SKY, GROUND = 0.98, 0.02  # share of sky from which a pixel is sky, and up to which it is ground
PLAIN, FROM_PLANE = 0.98, 18.0  # share of a cell that is sky, and degrees from the galaxy's plane
POLE = np.array([-0.867666, -0.198076, 0.455984])  # of the galaxy, ICRS
WIDTH = int(os.environ.get("VINTER_LOOKS_WIDTH", "2016"))
WORKING_PX = 1600
SKYLINE_PX = 60  # px of ground below each other that are no twig
MILL = Site(lat=37.702, lon=-8.772, tz="Europe/Lisbon", zenith=21.5)
JUNE, SEPTEMBER = 1812588300.0, 1820435400.0  # Unix s
MOONLIT = JUNE + 7 * 86400  # two days before it is full


@dataclass(frozen=True)
class Case:
    """A picture to be made: scene, site, time, where the lens points, ISO and shutter."""

    scene: str
    site: Site
    start: float
    pose: Pose
    iso: int = 1600
    shutter: float = 10.0
    frames: int = 8


CASES = {
    "mill, core": Case("mill", MILL, JUNE, Pose(180, 19)),
    "mill, low in the south": Case("mill", MILL, JUNE, Pose(150, 14)),
    "mill, north": Case("mill", MILL, JUNE, Pose(0, 25)),
    "fold, arch's foot": Case("sheepfold", MILL, SEPTEMBER, Pose(220, 25)),
    "ridge, high": Case("ridge", MILL, JUNE, Pose(120, 40)),
    "garden, towns": Case("garden", replace(MILL, zenith=20.2), JUNE, Pose(200, 22), 800),
    "mill, moonlit": Case("mill", MILL, MOONLIT, Pose(150, 19), 800, 6.0),
    "fold, moonlit": Case("sheepfold", MILL, MOONLIT, Pose(100, 25), 800, 6.0),
    "mill, one frame": Case("mill", MILL, JUNE, Pose(190, 20), frames=1),
}


def made(case: Case, folder: Path, seed: int) -> Path:
    """A stack of simulated frames, examined as any other."""
    whole = phone("marlet-7").lens("main")
    factor = whole.width / WIDTH
    lens = replace(whole, pitch=whole.pitch * factor, width=WIDTH, height=int(whole.height / factor) // 2 * 2)
    burst = Burst(
        site=case.site, lens=lens, start=case.start, pose=case.pose, iso=case.iso, shutter=case.shutter,
        count=case.frames, scene=case.scene, seed=seed,
    )  # fmt: skip
    frames = shoot(burst, folder / "frames")
    result = stack(frames, folder / "stack.tif", Settings(workers=2))
    about = read_about(result.picture)
    known = Circumstances(site=case.site, unix=about.unix, views=[view_of(lens, case.pose)])
    examine(result.picture, known, "auto")
    return result.picture


def scene_of(path: Path) -> Scene:
    """A stack prepared as for its finish."""
    return prepared(path, WORKING_PX)


def light_of(picture: Picture) -> Array:
    """Linear luminance (h, w) of sRGB (0 to 1, or bytes)."""
    v = np.clip(picture.astype(float) / (255 if picture.dtype == np.uint8 else 1), 0, 1)
    linear = np.where(v <= 0.04045, v / 12.92, ((v + 0.055) / 1.055) ** 2.4)
    return np.asarray(linear @ np.array([0.2126, 0.7152, 0.0722]))


def from_plane(scene: Scene) -> Array:
    """Degrees of each pixel from the galaxy's plane; 90 where no field is known."""
    height, width = scene.sky.shape
    if scene.field is None:
        return np.full((height, width), 90.0)
    x, y = np.meshgrid(np.linspace(0, scene.field.width - 1, 80), np.linspace(0, scene.field.height - 1, 60))
    up = scene.field.directions(np.c_[x.ravel(), y.ravel()]) @ POLE
    away = np.degrees(np.abs(np.arcsin(np.clip(up, -1, 1)))).reshape(x.shape)
    return np.asarray(cv2.resize(away, (width, height)))


def grid(scene: Scene, picture: npt.NDArray[np.uint8]) -> tuple[Array, Array]:
    """Light (EV) and colour (a*, b*) of the plain cells; NaN where a cell is none."""
    sky = cv2.resize(scene.sky, picture.shape[1::-1], interpolation=cv2.INTER_AREA)
    away = cv2.resize(from_plane(scene), picture.shape[1::-1])
    light, lab = light_of(picture), cv2.cvtColor(picture.astype(np.float32) / 255, cv2.COLOR_RGB2LAB)
    ev, colour = np.full((ROWS, COLUMNS), np.nan), np.full((ROWS, COLUMNS, 2), np.nan)
    edges = [
        np.linspace(0, n, k + 1).astype(int) for n, k in zip(picture.shape[:2], (ROWS, COLUMNS), strict=True)
    ]
    for i in range(ROWS):
        for j in range(COLUMNS):
            cell = np.s_[edges[0][i] : edges[0][i + 1], edges[1][j] : edges[1][j + 1]]
            if (sky[cell] > SKY).mean() > PLAIN and np.median(away[cell]) > FROM_PLANE:
                ev[i, j] = np.log2(max(float(np.median(light[cell])), 1e-5))
                colour[i, j] = [np.median(lab[cell][..., k]) for k in (1, 2)]
    return ev, colour


def steps(values: Array) -> float:
    """The largest step between neighbours that both are there."""
    found = [np.abs(np.diff(values, axis=axis)) for axis in (0, 1)]
    flat = np.concatenate([f[np.isfinite(f)] for f in found])
    return float(flat.max()) if flat.size else float("nan")


def from_centre(ev: Array) -> float:
    """The largest distance from the plain cell nearest to the centre."""
    rows, columns = np.nonzero(np.isfinite(ev))
    if not len(rows):
        return float("nan")
    near = int(np.argmin((rows - (ROWS - 1) / 2) ** 2 + (columns - (COLUMNS - 1) / 2) ** 2))
    return float(np.nanmax(np.abs(ev - ev[rows[near], columns[near]])))


def rim(scene: Scene, picture: Picture) -> list[float]:
    """Light of the first three rows of ground below the sky, in that of the fourth to eighth."""
    sky = cv2.resize(scene.sky, picture.shape[1::-1], interpolation=cv2.INTER_AREA)
    ground, light = sky < GROUND, light_of(picture)
    first = np.argmax(ground & (np.cumsum(~ground, axis=0) > 20), axis=0)
    columns = np.flatnonzero((first > 20) & (first < picture.shape[0] - 12))
    # twigs and leaves have sky below them, and a light of their own: the skyline is what goes down as ground
    whole = [ground[first[c] : first[c] + SKYLINE_PX, c].all() for c in columns]
    columns = columns[np.array(whole, bool)]
    if not len(columns):
        return []
    at = [np.median(light[first[columns] + k, columns]) for k in range(8)]
    return [float(at[k] / np.mean(at[3:])) for k in range(3)]


def noise(scene: Scene, picture: npt.NDArray[np.float32]) -> list[float]:
    """Noise of the sky in luma, Cr and Cb, levels of 255: by differences of neighbours, which stars hardly
    touch."""
    sky = scene.sky > SKY
    colours = cv2.cvtColor(np.clip(picture, 0, 1), cv2.COLOR_RGB2YCrCb) * 255
    steps = np.diff(colours, axis=1)[sky[:, 1:] & sky[:, :-1]]
    return [float(1.4826 * np.median(np.abs(steps[:, k])) / np.sqrt(2)) for k in range(3)]


def report(name: str, path: Path, out: Path | None) -> None:
    """Print the line of a stack, and keep its picture in a folder where one is given."""
    scene = scene_of(path)
    canvas = Renderer(scene).render(suggest(scene))
    picture = to_8bit(canvas)
    ev, colour = grid(scene, picture)
    rows = " ".join(f"{v:.2f}" for v in rim(scene, canvas.rgb))
    levels = " ".join(f"{v:.1f}" for v in noise(scene, canvas.rgb))
    print(
        f"{name:26s} {int(np.isfinite(ev).sum()):3d} {steps(ev):8.2f} {from_centre(ev):8.2f} "
        f"{steps(colour[..., 0]):6.1f} {steps(colour[..., 1]):6.1f}   {rows:14s}   {levels}",
        flush=True,
    )
    if out:
        out.mkdir(parents=True, exist_ok=True)
        cv2.imwrite(str(out / f"{name.replace(', ', '-').replace(' ', '-')}.png"), picture[..., ::-1])


def main(arguments: Sequence[str]) -> None:
    """Run it and print."""
    wanted = argparse.ArgumentParser(description="how even the suggested look leaves the sky")
    wanted.add_argument("-o", type=Path, metavar="FOLDER")
    wanted.add_argument("-s", type=int, default=20, metavar="SEED")
    wanted.add_argument("pictures", nargs="*", metavar="STACK.tif | NAME")
    given = wanted.parse_args(arguments)
    print(
        f"{'picture':26s} cells  step EV centre EV   da*    db*   rows of ground   noise: luma Cr Cb",
        flush=True,
    )
    for picture in given.pictures or CASES:
        if picture in CASES:
            with tempfile.TemporaryDirectory() as folder:
                seed = given.s + list(CASES).index(picture)
                report(picture, made(CASES[picture], Path(folder), seed), given.o)
        else:
            path = Path(picture)
            report(path.parent.name if path.stem == "stack" else path.stem, path, given.o)


if __name__ == "__main__":
    main(sys.argv[1:])
