"""Times of Vinter against a competent script over general libraries, printed as ratios.

usage: bin/bench [planning] [stacking] [editing] [memory] [many]      (the first three without arguments)

planning: a site-year of nights with brightness along every night, against asking skyfield for every sample.
stacking: the same frames through rawpy, astroalign, scikit-image and ccdproc; RGB on both sides.
memory:   20 and 80 frames of 12 MP, and the 80 again by the median with what was kept: time and private
          memory of a process.
many:     12 and 400 frames of 12 MP, and trails of 12 and 1,000 frames of 3 MP; 40 are shot, the others are
          the same under other names.
editing:  one change at 1600 x 1200 through all steps, against the same steps written naively in NumPy.

Times vary by a third from run to run on shared machines; ratios come from one run.
"""

import copy
import json
import multiprocessing
import os
import resource
import shutil
import sys
import tempfile
import time
import warnings
from collections.abc import Callable, Iterator
from concurrent.futures import ProcessPoolExecutor
from datetime import UTC, date, datetime
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import numpy.typing as npt

if TYPE_CHECKING:
    from vinter.core.finish.recipe import RecipeParts
    from vinter.core.finish.scene import Scene

MEMORY_FRAMES = tuple(int(n) for n in os.environ.get("VINTER_BENCH_MEMORY", "20,80").split(","))
MANY_FRAMES = tuple(int(n) for n in os.environ.get("VINTER_BENCH_MANY", "12,400,1000,40").split(","))
YEAR = (date(2027, 1, 1), date(2027, 12, 31))
EDITED = (1600, 1200)  # px
FRAMES = int(os.environ.get("VINTER_BENCH_FRAMES", "8"))


def timed(function: Callable[[], object], repeat: int = 1) -> float:
    best = float("inf")
    for _ in range(repeat):
        start = time.perf_counter()
        function()
        best = min(best, time.perf_counter() - start)
    return best


def row(what: str, ours: float, theirs: float) -> None:
    print(f"{what:46s} {ours:9.3f} s {theirs:9.3f} s   {theirs / ours:7.1f} x")


def planning() -> None:
    from skyfield.api import Star, wgs84

    from vinter.core.sky import ephemeris as eph
    from vinter.core.sky.nights import nights
    from vinter.core.sky.site import Site

    warnings.simplefilter("ignore")
    sites = [Site(lat=38.2 + i / 7, lon=-8.8, tz="Europe/Lisbon", zenith=21.5) for i in range(4)]
    nights(sites[0], *YEAR)
    turns = iter(sites[1:])
    ours = timed(lambda: nights(next(turns), *YEAR), 3)

    def direct() -> None:
        timescale, bodies = eph._kernel()
        start = datetime(YEAR[0].year, YEAR[0].month, YEAR[0].day, tzinfo=UTC).timestamp()
        days = (YEAR[1] - YEAR[0]).days + 1
        t = timescale.tt_jd(
            timescale.from_datetime(datetime.fromtimestamp(start, UTC)).tt + np.arange(0, days, 10 / 1440)
        )
        observer = bodies["earth"] + wgs84.latlon(38.2, -8.8)
        core = Star(ra_hours=eph.GALACTIC_CENTRE[0] / 15, dec_degrees=eph.GALACTIC_CENTRE[1])
        for body in (bodies["sun"], bodies["moon"], core):
            observer.at(t).observe(body).apparent().altaz()

    row("a site-year (5 min) / skyfield alone (10 min)", ours, timed(direct))


def library_stack(paths: list[Path]) -> npt.NDArray[np.generic]:
    """What a careful script does: demosaic, find a similarity by stars, warp, sigma clip; each colour."""
    import astroalign
    import ccdproc
    import rawpy
    from astropy import units
    from astropy.nddata import CCDData
    from skimage.transform import warp

    def rgb(path: Path) -> npt.NDArray[np.generic]:
        with rawpy.imread(str(path)) as raw:
            developed = raw.postprocess(gamma=(1, 1), no_auto_bright=True, output_bps=16, use_camera_wb=False)
        return np.asarray(developed, np.float32)

    reference = rgb(paths[len(paths) // 2])
    aligned = []
    for path in paths:
        picture = rgb(path)
        found, _ = astroalign.find_transform(
            picture[..., 1], reference[..., 1], detection_sigma=5, max_control_points=60
        )
        aligned.append(
            np.stack(
                [warp(picture[..., c], found.inverse, order=3, preserve_range=True) for c in range(3)],
                axis=-1,
            )
        )
    out = []
    for c in range(3):
        cube = [CCDData(a[..., c], unit=units.adu) for a in aligned]
        combiner = ccdproc.Combiner(cube)
        combiner.sigma_clipping(low_thresh=3, high_thresh=3, func=np.ma.median)
        out.append(combiner.average_combine().data)
    return np.stack(out, axis=-1)


def frames_of(folder: Path, count: int, coarser: int = 1) -> list[Path]:
    """12 MP frames of the simulated phone (or of pixels so many times coarser), shot by another process, so
    that this one stays small."""
    with ProcessPoolExecutor(1, mp_context=multiprocessing.get_context("spawn")) as pool:
        return pool.submit(_shot, folder, count, coarser).result()


def repeated(paths: list[Path], count: int, folder: Path) -> list[Path]:
    """So many frames of fewer files: each again and again under another name."""
    folder.mkdir()
    for k in range(count):
        path = paths[k % len(paths)]
        os.link(path, folder / f"{path.stem}_{k // len(paths):03d}{path.suffix}")
    return sorted(folder.iterdir())


def _shot(folder: Path, count: int, coarser: int) -> list[Path]:
    from dataclasses import replace

    from vinter.core.camera.phones import phone
    from vinter.core.camera.projection import Pose
    from vinter.core.simulate.capture import Burst
    from vinter.core.simulate.shooting import shoot
    from vinter.core.sky.site import Site

    site = Site(lat=37.7, lon=-8.78, tz="Europe/Lisbon", zenith=21.5)
    lens = phone("marlet-7").lens("main")
    lens = replace(
        lens, pitch=lens.pitch * coarser, width=lens.width // coarser, height=lens.height // coarser
    )
    return shoot(
        Burst(
            site=site,
            lens=lens,
            start=1812589930.0,
            pose=Pose(180, 20),
            iso=1600,
            shutter=10.0,
            count=count,
        ),
        folder / "frames",
    )


def memory() -> None:
    from vinter.core.stack.combining.methods import Method
    from vinter.core.stack.pipeline import Settings, stack

    folder = Path(tempfile.mkdtemp(prefix="vinter-bench-"))
    try:
        paths = frames_of(folder, MEMORY_FRAMES[1])
        few, many = MEMORY_FRAMES
        for count, settings in (
            (few, Settings()),
            (many, Settings()),
            (many, Settings(method=Method.MEDIAN)),
        ):
            start = time.perf_counter()
            report = stack(paths[:count], folder / "out.tif", settings, keep=folder / "kept").report
            print(
                f"{count} x 12 MP, {settings.method:8s} {time.perf_counter() - start:6.0f} s "
                f"{report['peak_rss_mb']:6.0f} MB a process, "
                f"noise {report['noise_gain']:.2f} times less ({report['noise_expected']:.2f}), "
                f"{report['reused']['frames']} frames kept"
            )
    finally:
        shutil.rmtree(folder)


def many() -> None:
    """Few and very many frames: what a process and this one hold at most, and how long a frame takes."""
    from vinter.core.stack.combining.methods import Method
    from vinter.core.stack.pipeline import Settings, stack

    few, most, trails, shot = MANY_FRAMES
    for megapixels, coarser, counts, settings in (
        (12, 1, (few, most), Settings()),
        (3, 2, (few, trails), Settings(method=Method.TRAILS)),
    ):
        folder = Path(tempfile.mkdtemp(prefix="vinter-bench-"))
        try:
            paths = frames_of(folder, min(shot, counts[1]), coarser)
            for count in counts:
                named = repeated(paths, count, folder / f"of-{count}")
                start = time.perf_counter()
                report = stack(named, folder / "out.tif", settings).report
                seconds = time.perf_counter() - start
                own = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
                print(
                    f"{count} x {megapixels} MP, {settings.method:6s} {report['frames_used']} used, "
                    f"{seconds:5.0f} s, {seconds / count:5.2f} s a frame, {report['peak_rss_mb']:4.0f} MB a "
                    f"process, {own:4.0f} MB the one that asks",
                    flush=True,
                )
        finally:
            shutil.rmtree(folder)


def stacking() -> None:
    from vinter.core.stack.pipeline import Settings, stack

    folder = Path(tempfile.mkdtemp(prefix="vinter-bench-"))
    try:
        paths = frames_of(folder, FRAMES)
        peak = [0.0]

        def ours() -> None:
            peak[0] = stack(paths, folder / "out.tif", Settings()).report["peak_rss_mb"]

        ours()  # compiled kernels are on disk from here on, as set-up leaves them
        fast = timed(ours)
        slow = timed(lambda: library_stack(paths))
        row(f"stack of {FRAMES} x 12 MP RGB / library script", fast, slow)
        most = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
        print(f"{'private memory of a worker / of the script':46s} {peak[0]:9.0f} MB {most:8.0f} MB")
    finally:
        shutil.rmtree(folder)


def naive_edit(scene: "Scene", recipe: "RecipeParts") -> npt.NDArray[np.generic]:
    """The same moves, straightforwardly in float64 NumPy and SciPy."""
    from scipy.ndimage import gaussian_filter

    from vinter.core.camera.photons import srgb
    from vinter.core.finish.moves.black_point import BlackPoint
    from vinter.core.finish.moves.curve import Curve
    from vinter.core.finish.moves.gradient_removal import GradientRemoval, glow_base
    from vinter.core.finish.moves.light_balance import LightBalance
    from vinter.core.finish.smooth_glow import surface

    h, w = scene.sky.shape
    gx, gy = np.meshgrid((np.arange(w) + 0.5) / w, (np.arange(h) + 0.5) / h)
    sky, base = scene.sky[..., None].astype(float), glow_base(scene)
    share = recipe.of(GradientRemoval).share
    rgb = scene.rgb.astype(float) - sky * share * np.clip(surface(scene.glow, gx, gy) - base, 0, None)
    rgb = rgb - sky * base * (1 - 10 ** (-0.4 * recipe.of(BlackPoint).magnitudes))
    balance, contrast = recipe.of(LightBalance), recipe.of(Curve).sky.contrast
    parts = [rgb @ balance.matrix(z, scene).T for z in (balance.sky, balance.ground)]
    rgb = np.clip(sky * parts[0] + (1 - sky) * parts[1], 0, None)
    rgb = srgb(np.where(rgb > 0.5, 1 - 0.25 / np.maximum(rgb, 0.5), rgb))
    rgb = np.where(rgb < 0.3, 0.3 * (rgb / 0.3) ** contrast, 1 - 0.7 * ((1 - rgb) / 0.7) ** contrast)
    grey = rgb.mean(axis=2, keepdims=True)
    chroma = rgb - grey
    soft = np.stack([gaussian_filter(chroma[..., c], 2.8) for c in range(3)], axis=-1)
    light = grey[..., 0] - 0.15 * (grey[..., 0] - gaussian_filter(grey[..., 0], 0.9))
    return np.asarray(light[..., None] + chroma + 0.35 * (soft - chroma))


CHANGES = {  # of every move one setting, and the values between which it goes
    "geometry.level": (0.2, 1.2),
    "corners.amount": (0.1, 0.6),
    "gradient_removal.share": (0.5, 0.8),
    "black_point.magnitudes": (0.5, 1.0),
    "light_balance.sky.kelvin": (3800.0, 4800.0),
    "core.brightness": (0.1, 0.6),
    "curve.sky.contrast": (1.05, 1.25),
    "noise_reduction.sky.colour": (0.1, 0.6),
    "detail.sky.haze": (0.1, 0.6),
    "colour.sky.saturation": (0.05, 0.4),
    "stars.smaller": (0.1, 0.6),
    "fine_scales.two": (0.1, 0.6),
}


def editing() -> None:
    from vinter.core.finish.guard import limits
    from vinter.core.finish.recipe import parse_recipe
    from vinter.core.finish.render import Renderer, histogram, to_8bit
    from vinter.core.finish.scene import prepare
    from vinter.core.finish.suggestion import suggest
    from vinter.core.formats.pictures import jpeg_bytes
    from vinter.core.frames.frame import Colour

    rng = np.random.default_rng(0)
    width, height = EDITED
    rgb = (0.02 + rng.normal(0, 0.002, (height, width, 3))).astype(np.float32)
    sky = np.arange(height)[:, None] < 0.8 * height
    mask = np.where(sky, 255, 0).astype(np.uint8) * np.ones((1, width), np.uint8)
    scene = prepare(rgb, mask, Colour((0.46, 1.0, 0.71)))
    renderer, recipe = Renderer(scene), suggest(scene)
    plain = recipe.model_dump()

    def changed(path: str, value: float) -> "RecipeParts":
        key, *way = path.split(".")
        out = copy.deepcopy(plain)
        part = out[key]
        for name in way[:-1]:
            part = part[name]
        part[way[-1]] = value
        return parse_recipe(json.dumps(out))

    def shown(wanted: "RecipeParts") -> bytes:
        canvas = renderer.render(wanted)
        picture = to_8bit(canvas)
        limits(scene, wanted, picture)
        histogram(picture, canvas.sky)
        return jpeg_bytes(picture, 92)

    def moved(path: str, values: "Iterator[Any]") -> None:
        shown(changed(path, float(next(values))))

    shown(recipe)
    slow = timed(lambda: naive_edit(scene, recipe), 2)
    print("one change at 1600 x 1200 to JPEG, histogram and limits / all moves written naively")
    for path, (low, high) in CHANGES.items():
        row(f"  {path}", timed(partial(moved, path, iter(np.linspace(low, high, 6))), 5), slow)


TABLES = {"planning": planning, "stacking": stacking, "editing": editing, "memory": memory, "many": many}


def main() -> None:
    wanted = sys.argv[1:] or ["planning", "stacking", "editing"]
    print(f"{'':46s} {'Vinter':>11s} {'libraries':>11s}   {'ratio':>9s}")
    for name in wanted:
        TABLES[name]()


if __name__ == "__main__":
    main()
