"""The dome: the sky over the site at the middle of the night, with glow, the core's way and the Moon's."""

from dataclasses import dataclass

import numpy as np

from vinter.core.sky.brightness import to_magnitudes
from vinter.core.sky.ephemeris import Array
from vinter.core.sky.glow import glow, town_light
from vinter.core.sky.nights import Night
from vinter.core.sky.site import Site

RADIUS = 120.0


@dataclass(frozen=True)
class Dome:
    """Paths on a disc of radius 120 about (0, 0): north up, east left as one lies on one's back."""

    glow: list[tuple[str, float, float]]
    core: str
    usable: list[str]
    moon: str
    towns: list[tuple[float, float, str]]


def _xy(altitude: float, azimuth: float) -> tuple[float, float]:
    r = (90 - altitude) / 90 * RADIUS
    a = np.radians(azimuth)
    return round(-r * float(np.sin(a)), 1), round(-r * float(np.cos(a)), 1)


def _line(alts: Array, azs: Array) -> str:
    points = [_xy(float(a), float(z)) for a, z in zip(alts, azs, strict=True)]
    return "M" + "L".join(f"{x} {y}" for x, y in points) if len(points) > 1 else ""


def _glow_rings(site: Site) -> list[tuple[str, float, float]]:
    """Wedges of the sky with their town light: path, opacity, brightness of the towns in mag/arcsec^2."""
    light, out = town_light(site), []
    for low, high in ((0, 12), (12, 28), (28, 50)):
        for az in range(0, 360, 15):
            level = float(light.at(np.array([(low + high) / 2]), np.array([az + 7.5]))[0])
            corners = [_xy(low, az), _xy(low, az + 15), _xy(high, az + 15), _xy(high, az)]
            path = "M" + "L".join(f"{x} {y}" for x, y in corners) + "Z"
            out.append(
                (
                    path,
                    round(float(np.clip(np.log10(max(level, 1) / 12) / 1.8, 0, 0.9)), 3),
                    round(float(to_magnitudes(max(level, 0.01))), 1),
                )
            )
    return out


def dome(site: Site, night: Night) -> Dome | None:
    """The dome of a night; None where the Sun never sets."""
    track = night.strip
    if len(track.t) < 3:
        return None
    up, moon_up = track.alt > 0, (track.moon_alt > 0) & (track.sun_alt < -6)
    usable = []
    for w in night.windows:
        inside = (track.t >= w.start - 300) & (track.t <= w.end + 300)
        usable.append(_line(track.alt[inside], track.az[inside]))
    towns = [(*_xy(-6, t.azimuth), t.name) for t in glow(site.lat, site.lon).towns[:3]]
    return Dome(
        _glow_rings(site),
        _line(track.alt[up], track.az[up]),
        usable,
        _line(track.moon_alt[moon_up], track.moon_az[moon_up]),
        towns,
    )
