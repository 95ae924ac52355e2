"""The made-up places that the simulated phone can stand at, each drawn on the site's own horizon.

A scene is a function in ``SCENES``: it paints from far to near. Angles in degrees; a lamp's light in nL.
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from vinter.core.camera.projection import View
from vinter.core.simulate.ground import (
    GRASS,
    LEAF,
    SOIL,
    STEP,
    STONE,
    WOOD,
    Ground,
    Painter,
    over_profile,
    skyline,
)
from vinter.core.sky.horizon import Horizon

Array = npt.NDArray[np.float64]
F32 = npt.NDArray[np.float32]
DARK = np.array((0.015, 0.015, 0.018), np.float32)
ROOF = np.array((0.085, 0.062, 0.05), np.float32)
WINDOW = np.array((0.6, 0.42, 0.2), np.float32)
LAMP = np.array((0.6, 0.52, 0.36), np.float32)
HEDGE = np.array((0.05, 0.065, 0.035), np.float32)
SUBURB = 19.6  # mag/arcsec^2 at the zenith, under which a site lies among houses
WINDOW_NL, LAMP_NL = 4000.0, 60000.0


@dataclass(frozen=True)
class Place:
    """Where a scene is set up: the azimuth the lens faces, the skyline table, whether it is the site's own,
    and how far leaves are blown (degrees at their tips)."""

    facing: float
    table: Array
    own: bool
    sway: float

    def at(self, azimuth: float) -> float:
        """Altitude of the skyline."""
        return float(self.table[round(azimuth % 360 / STEP) % len(self.table)])

    def subject(self) -> tuple[float, float, float]:
        """Azimuth, half width and height of what stands out of the site's horizon before the lens, else
        where a building would look well."""
        if self.own:
            away = np.arange(-30.0, 30.0, 0.25)
            heights = np.array([self.at(self.facing + a) for a in away])
            over = heights - np.median(heights)
            if over.max() > 3.0:
                inside = away[over > 0.5 * over.max()]
                if np.ptp(inside) < 24:
                    return (
                        self.facing + float(inside.mean()),
                        float(np.ptp(inside)) / 2 + 1.0,
                        float(heights.max()),
                    )
        return self.facing + 14, 5.0, 9.5


SCENES: dict[str, Callable[[Painter, Place], None]] = {}


def scene(name: str) -> Callable[[Callable[[Painter, Place], None]], Callable[[Painter, Place], None]]:
    """Register a function as a scene."""

    def registered(draw: Callable[[Painter, Place], None]) -> Callable[[Painter, Place], None]:
        SCENES[name] = draw
        return draw

    return registered


def scene_for(dangers: list[str], zenith: float) -> str:
    """The scene that suits a site, by the kinds of its dangers and its zenith (mag/arcsec^2)."""
    if "water" in dangers:
        return "mill"
    if zenith < SUBURB:
        return "garden"
    return "sheepfold" if "animals" in dangers else "ridge"


def place_seed(lat: float, lon: float) -> int:
    """What the ground of a place is drawn by, so that it is the same whenever somebody stands there (within
    about 100 m); degrees."""
    return round((lat + 90) * 1000) * 1_000_000 + round((lon + 180) * 1000)


def box(left: float, right: float, low: float, high: float) -> Array:
    """Corners of an upright rectangle."""
    return np.array([[left, low], [left, high], [right, high], [right, low]])


def house(p: Painter, centre: float, half: float, low: float, top: float, lit: bool = False) -> None:
    """A stone building seen at an angle: gable and long side, roof, chimney, door, small windows."""
    left, right = centre - half, centre + half
    corner, apex = left + 0.85 * half, left + 0.42 * half
    wall = low + 0.6 * (top - low)
    back = top - 0.07 * (top - low)
    far = low + 0.93 * (wall - low)
    gable = np.array([[left, low], [left, wall], [apex, top], [corner, wall - 0.1], [corner, low]])
    p.shape(gable, np.asarray(STONE * 0.62, np.float32), 0.75)
    side = np.array([[corner, low], [corner, wall], [right, far], [right, low + 0.1]])
    p.shape(side, np.asarray(STONE * 0.4, np.float32), 0.8)
    ridge_end = apex + (right - corner)
    eaves = np.array(
        [
            [apex - 0.1, top + 0.05],
            [ridge_end, back],
            [right + 0.25, far - 0.12],
            [corner - 0.05, wall - 0.22],
        ]
    )
    p.shape(eaves, ROOF, 0.7)
    stack = apex + 0.62 * (ridge_end - apex)
    p.shape(
        box(stack, stack + 0.13 * half, back - 0.3, top + 0.12 * (top - low)), STONE * np.float32(0.4), 0.5
    )
    tall = wall - low
    p.shape(box(apex - 0.1 * half, apex + 0.1 * half, low, low + 0.5 * tall), DARK, 0.1)
    p.shape(box(apex - 0.045 * half, apex + 0.045 * half, low + 0.95 * tall, low + 1.2 * tall), DARK, 0.05)
    for k, at in enumerate((0.28, 0.68)):
        x = corner + at * (right - corner)
        pane = box(x, x + 0.09 * half, low + 0.45 * tall, low + 0.68 * tall)
        shines = lit and k == 0
        p.shape(pane, WINDOW if shines else DARK, 0.05, WINDOW_NL if shines else 0.0)


def reeds(p: Painter, left: float, right: float, foot: float, many: int, sway: float) -> None:
    """A stand of reeds in front."""
    lines, thick = [], []
    for _ in range(many):
        at, tall = p.rng.uniform(left, right), p.rng.uniform(2.5, 8.0)
        lean = p.rng.normal(0, 0.7) + sway
        t = np.linspace(0, 1, 6)
        lines.append(np.c_[at + lean * t**2, foot + tall * t])
        thick.append(p.rng.uniform(0.05, 0.11))
        if p.rng.uniform() < 0.45:  # a plume
            lines.append(np.c_[at + lean * np.array([0.86, 1.0]), foot + tall * np.array([0.93, 1.05])])
            thick.append(0.22)
    p.strokes(lines, thick, GRASS)


def branches(
    p: Painter, foot: tuple[float, float], tall: float, lean: float, sway: float, depth: int = 6
) -> tuple[list[Array], list[float], list[tuple[float, float]]]:
    """A thorn tree's limbs as lines with their thickness, and where its leaves are."""
    lines: list[Array] = []
    thick: list[float] = []
    tips: list[tuple[float, float]] = []
    waiting = [(foot[0], foot[1], np.radians(90 - lean), tall * 0.36, tall * 0.05, 0)]
    while waiting:
        x, y, way, length, wide, level = waiting.pop()
        bend = sway * (level / depth) ** 2
        end = x + length * np.cos(way) + bend * 0.3, y + length * np.sin(way)
        lines.append(np.array([[x, y], end]))
        thick.append(max(wide, 0.03))
        if level >= depth:
            tips.append(end)
            continue
        for turn in (-0.45, 0.4) if level < 2 or p.rng.uniform() < 0.8 else (0.1,):
            flat = 0.55 * (np.pi / 2 - way) if level > 1 else 0.0  # crowns spread flat
            waiting.append(
                (
                    *end,
                    way + turn + p.rng.normal(0, 0.22) - 0.25 * flat,
                    length * p.rng.uniform(0.68, 0.86),
                    wide * 0.66,
                    level + 1,
                )
            )
    return lines, thick, tips


def thorn_tree(p: Painter, azimuth: float, foot: float, tall: float, sway: float) -> None:
    """A flat-crowned tree."""
    lines, thick, tips = branches(p, (azimuth, foot), tall, p.rng.uniform(-8, 8), sway)
    p.strokes(lines, thick, WOOD)
    leaves, sizes = [], []
    for x, y in tips:
        for _ in range(7):
            dx, dy = p.rng.normal(0, 0.06 * tall), abs(p.rng.normal(0, 0.025 * tall))
            leaves.append(
                np.array([[x + dx + sway * 0.3, y + dy], [x + dx + 0.1 + sway * 0.3, y + dy + 0.03]])
            )
            sizes.append(p.rng.uniform(0.06, 0.16))
    p.strokes(leaves, sizes, LEAF)


def pine(p: Painter, azimuth: float, foot: float, tall: float, sway: float) -> None:
    """A conifer: whorls of drooping branches about a trunk."""
    lines, thick = [np.array([[azimuth, foot], [azimuth + sway * 0.5, foot + tall]])], [0.035 * tall]
    for level in np.arange(0.14, 1.0, 0.055):
        reach = 0.24 * tall * (1 - level) ** 0.8 * p.rng.uniform(0.75, 1.15)
        y, bend = foot + level * tall, sway * level**2
        for side in (-1, 1):
            t = np.linspace(0, 1, 5)
            droop = (0.12 * t - 0.32 * t**2) * reach
            lines.append(np.c_[azimuth + bend * 0.5 + side * reach * t, y + droop])
            thick.append(0.05 * tall * (1.1 - level))
    p.strokes(lines, thick, LEAF)


@scene("ridge")
def ridge(p: Painter, place: Place) -> None:
    """A bare ridge with pines."""
    p.profile(place.table, GRASS * 0.8, haze=0.05)
    for _ in range(15):
        at = place.facing + p.rng.choice([-1, 1]) * p.rng.uniform(9, 48)
        foot, tall = place.at(at) - 0.4, p.rng.uniform(2.2, 6.5)
        with p.stands(foot):
            pine(p, at, foot, tall, place.sway)
    if not place.own:
        house(p, *_stand(place))


def _stand(place: Place) -> tuple[float, float, float, float]:
    """Azimuth, half width, foot and top of a building that stands where the site's horizon has one."""
    centre, half, top = place.subject()
    foot = min(place.at(centre - half - 2), place.at(centre + half + 2)) - 0.4
    return centre, half, foot, top


@scene("mill")
def mill(p: Painter, place: Place) -> None:
    """A tide mill on its dyke: water that mirrors the sky, a sluice, reeds."""
    p.profile(place.table, GRASS * 0.9, haze=0.08)
    centre, half, foot, top = _stand(place)
    p.water(centre - 75, centre + 60, -7.5, -1.1)
    dyke = np.arange(centre - 60, centre + 44, 2.0)
    edge = 0.06 * np.sin(dyke) + 0.04 * np.sin(dyke * 3.1)
    p.shape(np.r_[np.c_[dyke, edge + 0.15], np.c_[dyke[::-1], edge[::-1] - 1.1]], STONE * 0.7, 0.9)
    with p.stands(min(foot, 0.2)):
        house(p, centre, half, min(foot, 0.2), top)
    for at in (-2.6, -1.9):  # the sluice
        p.shape(box(centre - half + at, centre - half + at + 0.18, -0.9, 1.5), WOOD, 0.3)
    p.shape(box(centre - half - 2.8, centre - half - 1.5, 1.1, 1.35), WOOD, 0.3)
    posts = [
        np.array([[at, -2.2 - 0.2 * k], [at + 0.05, -0.4 - 0.1 * k]])
        for k, at in enumerate(np.arange(centre - 52, centre - 20, 6.5))
    ]
    with p.stands(-2.5):
        p.strokes(posts, [0.14] * len(posts), WOOD)
    with p.stands(-9.0):
        reeds(p, place.facing - 42, place.facing - 24, -9.0, 150, place.sway)
        reeds(p, place.facing + 27, place.facing + 40, -9.0, 90, place.sway)


@scene("sheepfold")
def sheepfold(p: Painter, place: Place) -> None:
    """A dry-stone fold on a plain, thorn trees, a far ridge."""
    p.profile(place.table, SOIL * 0.8, haze=0.12)
    for at, tall in ((-31.0, 9.0), (24.0, 6.5), (39.0, 4.0)):
        azimuth = place.facing + at
        foot = min(place.at(azimuth), 0.0) - 0.8
        with p.stands(foot):
            thorn_tree(p, azimuth, foot, tall, place.sway)
    left, right = place.facing - 20, place.facing + 22
    for row in range(6):  # courses of stones, each with its own light
        at = left
        while at < right:
            wide = float(p.rng.uniform(0.5, 1.5))
            bow = -2.6 + 1.2 * ((at - place.facing) / 22) ** 2
            low = bow + 0.62 * row + p.rng.normal(0, 0.05)
            stone = np.array(
                [
                    [at, low],
                    [at + 0.06, low + 0.55],
                    [at + wide * 0.6, low + 0.6 + p.rng.normal(0, 0.05)],
                    [at + wide - 0.04, low + 0.52],
                    [at + wide, low + 0.02],
                ]
            )
            with p.stands(bow):
                p.shape(stone, np.asarray(STONE * p.rng.uniform(0.45, 1.0), np.float32), 0.5)
            at += wide + 0.04
    gate = place.facing + 7
    p.shape(box(gate, gate + 2.2, -3.0, 1.4), DARK, 0.1)  # an opening: it casts no shadow


@scene("garden")
def garden(p: Painter, place: Place) -> None:
    """A garden in a suburb: a house with a lit window, a hedge, a street lamp."""
    p.profile(np.maximum(place.table, 1.5), SOIL * 0.7, haze=0.1)
    for at in np.arange(-50, 50, 9.0):  # roofs beyond
        centre = place.facing + at + p.rng.uniform(-2, 2)
        house(p, centre, p.rng.uniform(2.2, 3.6), -0.2, p.rng.uniform(3.5, 6.0), lit=p.rng.uniform() < 0.25)
    with p.stands(-3.0):
        house(p, place.facing - 27, 11, -3.0, 17.0, lit=True)
    hedge = np.arange(place.facing - 60, place.facing + 60, 0.25)
    top = 1.6 + 0.5 * np.sin(hedge * 0.7) + p.rng.normal(0, 0.16, len(hedge))
    with p.stands(-4.0):
        p.shape(np.r_[np.c_[hedge, top], np.c_[hedge[::-1], np.full(len(hedge), -4.0)]], HEDGE, 0.9)
    lamp = place.facing + 29
    with p.stands(-2.0):
        p.shape(box(lamp, lamp + 0.22, -2.0, 12.0), DARK, 0.1)
        p.shape(box(lamp - 1.4, lamp + 0.2, 11.8, 12.2), DARK, 0.1)
    p.shape(box(lamp - 1.5, lamp - 0.6, 11.55, 11.9), LAMP, 0.0, LAMP_NL)


def ground(
    view: View,
    seed: int,
    facing: float,
    horizon: Horizon | None = None,
    scene: str = "",
    sway: float = 0.0,
) -> Ground:
    """The ground as a view sees it, over the site's own horizon when it has one.

    ``scene`` names what stands before it, else a ridge; ``sway`` moves leaves and
    reeds by degrees at their tips. Edges are smooth over one pixel.
    """
    painter = Painter(view, seed)
    table = over_profile(horizon, seed) if horizon else skyline(seed)
    draw = SCENES[scene or "ridge"]
    draw(painter, Place(facing=facing, table=table, own=horizon is not None, sway=sway))
    return painter.made
