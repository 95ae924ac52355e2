"""What goes wrong while the simulated phone shoots: lamps, people, cloud, a push, dew."""

from collections.abc import Callable
from statistics import NormalDist

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.camera.projection import View, unproject
from vinter.core.simulate.capture import Burst
from vinter.core.simulate.ground import EYE, grid, upsample

F32 = npt.NDArray[np.float32]
STEP = 16  # px between places where a lamp's light is worked out
GLARE_SIGMA, GLARE = (
    0.05,
    0.0016,
)  # of the width, over which a lamp in the frame is spread, and how much of it
GHOST = 0.00012  # share of a lamp's light that lies mirrored at the axis
LAMP_TINT = np.array([0.42, 1.0, 0.62], np.float32)  # red, green and blue of a head lamp against green
SCREEN_TINT = np.array([0.24, 0.85, 0.9], np.float32)
COARSE, WALKED = 4, 24  # px a side that passers-by are drawn in, and steps of their walk
TALL, FAR = 1.75, (6.0, 12.0)  # m of a person, and how far off they walk


def lamp_light(burst: Burst, view: View, i: int, mean_nl: float) -> F32 | None:
    """Light on the ground (nL) of a head lamp beside the phone, falling with the distance squared; None where
    there is none in frame i."""
    if not burst.struck("lamp", i):
        return None
    x, y = grid(view, STEP)
    enu = unproject(view, *np.meshgrid(x, y))
    down = np.degrees(-np.arcsin(np.clip(enu[..., 2], -1, 1)))
    away = np.clip(EYE / np.tan(np.radians(np.maximum(down, 0.3))), 1.5, 60)
    near = np.where(down > 0.3, 1 / away**2, 1 / 25.0**2)
    rng = np.random.default_rng([burst.seed, 32, i])
    strength = mean_nl * rng.uniform(90, 260)
    return upsample(np.asarray(near * strength), x, y, view.width, view.height)


def by_colour(mosaic: F32, change: Callable[[F32], npt.NDArray[np.floating]]) -> F32:
    """A mosaic with every one of its four planes changed."""
    out = np.empty_like(mosaic)
    for y, x in ((0, 0), (0, 1), (1, 0), (1, 1)):
        out[y::2, x::2] = change(np.ascontiguousarray(mosaic[y::2, x::2]))
    return out


def veil(burst: Burst, mosaic: F32, i: int) -> None:
    """Cloud over half of the sky where it was asked for in frame i, else over the burst's share, in place: it
    takes the stars' light and is lit by the ground's."""
    share = 0.5 if burst.struck("cloud", i) else burst.cloud
    if share <= 0:
        return
    rng = np.random.default_rng([burst.seed, 33])
    h, w = mosaic.shape
    cells = rng.standard_normal((9, 12)).astype(np.float32)
    shift = np.array([[1, 0, 0.25 * i], [0, 1, 0]], np.float32)
    cells += np.float32(NormalDist().inv_cdf(min(share, 0.99)))
    cells = cv2.warpAffine(cells, shift, (12, 9), borderMode=cv2.BORDER_WRAP)
    cover = np.clip(cv2.resize(cells, (w, h), interpolation=cv2.INTER_CUBIC), 0, 1.2) * np.float32(0.6)
    level = np.float32(np.median(mosaic[::16, ::16]))
    mosaic *= 1 - cover
    mosaic += cover * level * np.float32(1.5)


def blurred(burst: Burst, mosaic: F32, i: int) -> F32:
    """A shaken or a dewed frame."""
    if burst.struck("shake", i):
        return by_colour(mosaic, lambda plane: cv2.filter2D(plane, -1, _swing(burst.seed, i)))
    if burst.struck("dew", i):
        return by_colour(mosaic, lambda plane: cv2.GaussianBlur(plane, (0, 0), 2.2))
    return mosaic


def _swing(seed: int, i: int) -> F32:
    """The way of a shaken phone, as a kernel of half-size px."""
    rng = np.random.default_rng([seed, 34, i])
    kernel = np.zeros((15, 15), np.float32)
    way, length = rng.uniform(0, 2 * np.pi), rng.uniform(4, 6.5)
    end = round(7 + length * np.cos(way)), round(7 + length * np.sin(way))
    cv2.line(kernel, (7, 7), end, 1.0)
    return np.asarray(kernel / kernel.sum(), np.float32)


def flare(mosaic: F32, light: F32 | None) -> None:
    """What a lamp in the frame does to the lens, in place: a veil about it, and a ghost mirrored at the axis.

    ``light`` (height, width, 3) is the lamps' own, in electrons.
    """
    if light is None or float(light.max()) == 0:
        return
    h, w = mosaic.shape
    small = cv2.resize(light, (max(w // 8, 1), max(h // 8, 1)), interpolation=cv2.INTER_AREA)
    spread = cv2.GaussianBlur(small, (0, 0), GLARE_SIGMA * w / 8)
    ghost = cv2.GaussianBlur(np.ascontiguousarray(small[::-1, ::-1]), (0, 0), 0.02 * w / 8)
    size = float(small[..., 1].sum()) / max(float(spread[..., 1].sum()), 1e-9)
    added = np.asarray(GLARE * size * spread * 64 + GHOST * ghost * 64, np.float32)
    full = cv2.resize(added, (w, h), interpolation=cv2.INTER_LINEAR)
    for y, x in ((0, 0), (0, 1), (1, 0), (1, 1)):
        mosaic[y::2, x::2] += full[y::2, x::2, x + y]


def walked_through(burst: Burst, view: View, mosaic: F32, i: int, mean: float) -> None:
    """Somebody with a head lamp walks through frame i, in place: a dark shape, blurred by the exposure, and
    the lamp's wavy line; ``mean`` is the light of the frame in electrons."""
    if not burst.struck("person", i):
        return
    rng = np.random.default_rng([burst.seed, 35, i])
    h, w = mosaic.shape
    away = rng.uniform(*FAR)
    px = view.focal_px / away / COARSE  # a metre there
    foot = h * 0.5 + view.focal_px * (np.tan(np.radians(burst.pose.altitude)) + EYE / away)
    foot = float(np.clip(foot, 0.3 * h, 1.02 * h)) / COARSE
    start, way = rng.uniform(0.15, 0.5) * w / COARSE, rng.uniform(0.15, 0.3) * w / COARSE
    size = (w // COARSE, h // COARSE)
    shade = np.zeros(size[::-1], np.float32)
    for x in np.linspace(start, start + way, WALKED):
        one = np.zeros(size[::-1], np.uint8)
        middle, half = round(foot - 0.5 * TALL * px), round(0.5 * TALL * px)
        cv2.ellipse(one, (round(x), middle), (max(round(0.22 * px), 1), half), 0, 0, 360, 1, -1)
        cv2.circle(one, (round(x), round(foot - TALL * px)), max(round(0.13 * px), 1), 1, -1)
        shade += one
    along = np.linspace(0, 1, 160)
    y = foot - (TALL - 0.12) * px + 0.03 * px * np.sin(along * 40)
    points = np.stack([start + way * along, y], axis=1) * 16
    line = np.zeros(size[::-1], np.float32)
    cv2.polylines(line, [points.round().astype(np.int32)], False, 1.0, 1, cv2.LINE_AA, 4)
    glow = 14 * cv2.GaussianBlur(line, (0, 0), 0.7) + 1.5 * cv2.GaussianBlur(
        line, (0, 0), max(0.25 * px, 2.0)
    )
    mosaic *= cv2.resize(1 - 0.92 * shade / WALKED, (w, h), interpolation=cv2.INTER_LINEAR)
    full = cv2.resize(np.asarray(glow * max(mean, 1.0), np.float32), (w, h), interpolation=cv2.INTER_LINEAR)
    _add(mosaic, full, LAMP_TINT)


def screen(burst: Burst, mosaic: F32, i: int, mean: float) -> None:
    """The other photographer's screen low in frame i, in place: small, blue, with a little light about it."""
    if not burst.struck("screen", i):
        return
    rng = np.random.default_rng([burst.seed, 36])
    h, w = mosaic.shape[0] // COARSE, mosaic.shape[1] // COARSE
    x, y, half = rng.uniform(0.2, 0.8) * w, rng.uniform(0.9, 0.96) * h, max(0.003 * w, 1.0)
    spot = np.zeros((h, w), np.float32)
    corners = [(round(x + a * half), round(y + a * 1.8 * half)) for a in (-1, 1)]
    cv2.rectangle(spot, corners[0], corners[1], 1.0, -1)
    light = (spot * 40 + cv2.GaussianBlur(spot, (0, 0), 8 * half) * 12) * np.float32(max(mean, 1.0))
    _add(mosaic, cv2.resize(light, mosaic.shape[::-1], interpolation=cv2.INTER_LINEAR), SCREEN_TINT)


def _add(mosaic: F32, light: npt.NDArray[np.floating], tint: F32) -> None:
    """Add light (height, width) of a tint by colour to a mosaic, in place."""
    for y, x in ((0, 0), (0, 1), (1, 0), (1, 1)):
        mosaic[y::2, x::2] += light[y::2, x::2] * tint[y + x]
