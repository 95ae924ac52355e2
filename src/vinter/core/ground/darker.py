"""Where it is darker within a drive: nearest land one or two classes darker, and how it lies to towns and
target."""

from dataclasses import dataclass

import numpy as np

from vinter.core.errors import BadInput
from vinter.core.ground.coastline import around, land_mask
from vinter.core.ground.drive import drive_minutes, reach_km
from vinter.core.ground.glowmap import glow_map
from vinter.core.sky.brightness import sky_class, to_magnitudes
from vinter.core.sky.ephemeris import Array
from vinter.core.sky.glow import bearing_distance, glow, places, town_light
from vinter.core.sky.site import Site

CELLS = 120
SECTORS = 8
LOOK_UP = 20.0  # degrees: where the glow towards the target is compared
SAME_SIDE = 50.0  # degrees between a town and the target
LEAST_GAIN = 0.25  # magnitudes: under the model's error a place is not called darker
TOWN_SHARE = 0.15  # share of the glow from which a town is worth naming


@dataclass(frozen=True, kw_only=True)
class DarkerPlace:
    """A place darker by ``steps`` classes: position, straight distance (km), azimuth from here, minutes to
    drive, zenith by the town model, its class, magnitudes gained, town light towards the target, and how it
    lies, in words."""

    lat: float
    lon: float
    distance_km: float
    azimuth: float
    minutes: float
    zenith: float
    sky_class: int
    steps: int
    gain: float
    towards: float
    near: str
    words: str


def _apart(a: float, b: float) -> float:
    return abs((a - b + 180) % 360 - 180)


def _nearest_name(lat: float, lon: float) -> str:
    p = places()
    close = np.flatnonzero((np.abs(p.lat - lat) < 0.6) & (np.abs((p.lon - lon + 180) % 360 - 180) < 1.2))
    if not close.size:
        return ""
    _, km = bearing_distance(lat, lon, p.lat[close], p.lon[close])
    return str(p.names[int(close[np.argmin(km)])])


def lies(lat: float, lon: float, toward: float) -> tuple[float, str]:
    """Town light (mag/arcsec^2) towards an azimuth from a place, and in words on which side its towns lie."""
    light, found = town_light(Site(lat=lat, lon=lon)), glow(lat, lon)
    low: Array = light.at(np.full(24, LOOK_UP), np.arange(0.0, 360.0, 15.0))
    here = float(light.at(np.array([LOOK_UP]), np.array([toward]))[0])
    mag = float(to_magnitudes(max(here, 0.01)))
    strong = [t for t in found.towns if t.share >= TOWN_SHARE]
    facing = [t for t in strong if _apart(t.azimuth, toward) < SAME_SIDE]
    if facing:
        return mag, f"you would look over {facing[0].name}, {facing[0].distance_km:.0f} km away"
    behind = [t for t in strong if _apart(t.azimuth, toward) > 180 - SAME_SIDE]
    if behind:
        return mag, f"{behind[0].name} lies behind you"
    return mag, "its towns lie to the side" if here < float(
        np.median(low)
    ) * 1.2 else "glow from many small towns on that side"


def _nearest_by_sector(good: Array, azimuth: Array, km: Array) -> list[int]:
    """Index of the nearest good cell in each sector of the compass."""
    sector = np.round(azimuth / (360 / SECTORS)).astype(int) % SECTORS
    out = []
    for s in range(SECTORS):
        of = np.flatnonzero((good > 0) & (sector == s))
        if of.size:
            out.append(int(of[np.argmin(km[of])]))
    return out


def darker(
    lat: float, lon: float, minutes: float = 60.0, toward: float = 180.0, most: int = 3
) -> list[DarkerPlace]:
    """Nearest places one and two classes darker than here within a drive, nearest first, ``most`` for each
    step.

    ``toward`` is the azimuth in degrees where the target stands highest. Model against model: hills, lamps
    switched off and readings are unknown to it, so the gain is good to about 0.3 mag.
    """
    if not 10 <= minutes <= 300:
        raise BadInput(f"a drive of {minutes:g} minutes is not within 10 to 300")
    radius = reach_km(minutes)
    region, here = around(lat, lon, radius), glow(lat, lon).zenith
    grid = glow_map(region, CELLS)
    rows, columns = grid.zenith.shape
    land = land_mask(region, rows, columns)
    lats = region.north - (np.arange(rows) + 0.5) / rows * (region.north - region.south)
    lons = region.west + (np.arange(columns) + 0.5) / columns * (region.east - region.west)
    azimuth, km = bearing_distance(lat, lon, np.repeat(lats, columns), np.tile(lons, rows))
    zenith, ok = grid.zenith.ravel(), land.ravel() & (km <= radius)
    classes = np.array([sky_class(float(v)) for v in zenith])
    out = []
    for steps in (1, 2):
        wanted = ok & (classes <= sky_class(here) - steps) & (zenith >= here + LEAST_GAIN * steps)
        chosen = sorted(_nearest_by_sector(wanted.astype(float), azimuth, km), key=lambda i: float(km[i]))[
            :most
        ]
        for i in chosen:
            at = float(lats[i // columns]), float((lons[i % columns] + 180) % 360 - 180)
            towards, words = lies(*at, toward)
            out.append(
                DarkerPlace(
                    lat=round(at[0], 4),
                    lon=round(at[1], 4),
                    distance_km=float(km[i]),
                    azimuth=float(azimuth[i]),
                    minutes=drive_minutes(float(km[i])),
                    zenith=float(zenith[i]),
                    sky_class=int(classes[i]),
                    steps=steps,
                    gain=float(zenith[i] - here),
                    towards=towards,
                    near=_nearest_name(*at),
                    words=words,
                )
            )
    return out
