"""What passes through the frames: aeroplanes, satellites, meteors."""

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from vinter.core.camera.projection import View
from vinter.core.simulate.capture import Burst
from vinter.core.simulate.exposing import draw_trails
from vinter.core.sky import ephemeris as eph

F32 = npt.NDArray[np.float32]

SATELLITES = 0.14  # satellites per frame in dusk
ALL_SATELLITES, NO_SATELLITE = 18.0, 42.0  # degrees of the Sun below the horizon
METEORS = 0.012  # meteors per frame that are bright enough to be seen
PLANE, SATELLITE, METEOR = 260.0, 40.0, 700.0  # electrons a px of way
LAMP_COLOUR, METEOR_COLOUR = np.array([[0.8, 1.0, 0.7]]), np.array([[0.5, 1.15, 0.75]])
SWELLS = np.array([0.05, 0.12, 0.25, 0.45, 0.7, 1.0, 1.5, 2.4, 1.3, 0.3])  # light along a meteor's path


@dataclass(frozen=True)
class Streak:
    """A moving light in one frame: where it goes in px, electrons per px of way, blinking or steady; a meteor
    swells and fades along its way."""

    x0: float
    y0: float
    x1: float
    y1: float
    strength: float
    blinking: bool
    swelling: bool = False


def passing(burst: Burst, view: View, i: int) -> list[Streak]:
    """The moving lights of frame i; an aeroplane crosses several frames in a row."""
    out = _meteors(burst, view, i)
    if not burst.traffic:
        return out
    w, h = view.width, view.height
    lit = SATELLITES * _still_lit(burst, i)
    for first in range(max(0, i - 2), i + 1):
        rng = np.random.default_rng([burst.seed, 6, first])
        plane, satellite = rng.uniform() < 0.12 or first == burst.count // 3, rng.uniform() < lit
        start, angle = rng.uniform((0.1 * w, 0.1 * h), (0.9 * w, 0.6 * h)), rng.uniform(0, 2 * np.pi)
        speed = rng.uniform(18, 45) * np.array([np.cos(angle), 0.5 * np.sin(angle)])
        if plane or (satellite and first == i):
            begin = start + (i - first) * (burst.shutter + burst.gap) * speed
            end = begin + burst.shutter * speed
            out.append(
                Streak(
                    float(begin[0]),
                    float(begin[1]),
                    float(end[0]),
                    float(end[1]),
                    PLANE if plane else SATELLITE,
                    bool(plane),
                )
            )
    return out


def _still_lit(burst: Burst, i: int) -> float:
    """Share of the satellites above that the Sun still reaches in frame i: all in dusk, none in the depth of
    winter nights."""
    t = np.array([burst.middle(i)])
    e = eph.year_ephemeris(eph.year_of(float(t[0])))
    below = -float(eph.altitude(e.sun(t), e.gast(t), burst.site)[0])
    return float(np.clip((NO_SATELLITE - below) / (NO_SATELLITE - ALL_SATELLITES), 0, 1))


def _meteors(burst: Burst, view: View, i: int) -> list[Streak]:
    """A meteor now and then where there is traffic, or where one was asked for."""
    rng = np.random.default_rng([burst.seed, 7, i])
    if not (burst.struck("meteor", i) or (burst.traffic and rng.uniform() < METEORS)):
        return []
    w, h = view.width, view.height
    start, angle = rng.uniform((0.15 * w, 0.08 * h), (0.85 * w, 0.45 * h)), rng.uniform(0.2, np.pi - 0.2)
    way = rng.uniform(0.06, 0.16) * w * np.array([np.cos(angle), np.sin(angle)])
    strength = METEOR * float(rng.uniform(0.5, 2.0))
    x, y = map(float, start)
    return [Streak(x, y, x + float(way[0]), y + float(way[1]), strength, blinking=False, swelling=True)]


def draw_streak(mosaic: F32, streak: Streak, shutter: float) -> None:
    """Add a moving light to a mosaic (electrons), in place; shutter in s."""
    way = np.array([streak.x1 - streak.x0, streak.y1 - streak.y0])
    length = float(np.hypot(*way))
    pieces = SWELLS if streak.swelling else np.array([1.0])
    edges = np.linspace(0, 1, len(pieces) + 1)
    colour = METEOR_COLOUR if streak.swelling else LAMP_COLOUR
    flux = streak.strength * length / len(pieces) * pieces[:, None] * colour
    x, y = streak.x0 + edges * way[0], streak.y0 + edges * way[1]
    draw_trails(mosaic, x[:-1], y[:-1], x[1:], y[1:], flux, np.full(len(pieces), 1.6))
    if streak.blinking:
        along = np.arange(0.3, shutter, 1.1) / shutter
        x, y = streak.x0 + along * way[0], streak.y0 + along * way[1]
        draw_trails(
            mosaic, x, y, x, y, np.tile([[9000.0, 2500.0, 1500.0]], (len(x), 1)), np.full(len(x), 1.8)
        )
