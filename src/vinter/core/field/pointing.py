"""Finding a direction with a phone in the hand: how it is held, how far it is off, and hands at arm's
length.

A browser gives a phone's orientation as intrinsic turns about its Z, X and Y axis in an east-north-up frame
(X to the right of the screen, Y to its top, Z out of it); the camera looks along -Z. The same sums stand in
the script ``point-geometry.js``, which has to work without signal; a test holds both together.
"""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from vinter.core.camera.projection import Pose
from vinter.core.sky.catalogue import to_horizon
from vinter.core.sky.ephemeris import Array, year_of
from vinter.core.sky.galaxy import unit
from vinter.core.sky.refraction import refraction
from vinter.core.sky.site import Site
from vinter.core.sky.targets import MOON, PLANETS, position

# Right ascension and declination of bright stars that people know, J2000 degrees
STARS = {
    "Sirius": (101.287, -16.716),
    "Canopus": (95.988, -52.696),
    "Rigil": (219.902, -60.834),
    "Arcturus": (213.915, 19.182),
    "Vega": (279.235, 38.784),
    "Capella": (79.172, 45.998),
    "Rigel": (78.634, -8.202),
    "Procyon": (114.825, 5.225),
    "Achernar": (24.429, -57.237),
    "Betelgeuse": (88.793, 7.407),
    "Hadar": (210.956, -60.373),
    "Altair": (297.696, 8.868),
    "Acrux": (186.650, -63.099),
    "Aldebaran": (68.980, 16.509),
    "Antares": (247.352, -26.432),
    "Spica": (201.298, -11.161),
    "Pollux": (116.329, 28.026),
    "Fomalhaut": (344.413, -29.622),
    "Deneb": (310.358, 45.280),
    "Regulus": (152.093, 11.967),
    "Gacrux": (187.791, -57.113),
    "Shaula": (263.402, -37.104),
    "Dubhe": (165.932, 61.751),
    "Polaris": (37.955, 89.264),
}
LOWEST = 5.0  # degrees of altitude under which nothing is offered to aim at
FIST, FINGERS, FINGER = 10.0, 5.0, 1.0  # degrees at arm's length: a fist, three fingers, the little finger
NEAR, FARTHEST = 25.0, 45.0  # degrees from the aim: the brightest within the first leads, else the nearest
COUNTS = ("", "one", "two", "three", "four", "five", "six", "seven", "eight")


@dataclass(frozen=True)
class Turn:
    """How to turn the camera: degrees of azimuth to the right, of altitude up, of roll clockwise."""

    right: float
    up: float
    clockwise: float

    @property
    def words(self) -> str:
        """As one says it, to a tenth of a degree: "right 3.4°, up 1.0°, level 0.8° anticlockwise"."""
        sides = (("right", "left", self.right), ("up", "down", self.up))
        parts = [f"{a if v > 0 else b} {abs(v):.1f}°" for a, b, v in sides if abs(v) >= 0.05]
        if abs(self.clockwise) >= 0.05:
            parts.append(f"level {abs(self.clockwise):.1f}° {'' if self.clockwise > 0 else 'anti'}clockwise")
        return ", ".join(parts) or "as planned, to a tenth of a degree"


@dataclass(frozen=True)
class Mark:
    """Something known to aim at: azimuth and altitude in degrees, as the air shows it."""

    name: str
    azimuth: float
    altitude: float


def rotation(alpha: float, beta: float, gamma: float) -> Array:
    """Device axes as columns in (east, north, up) of the angles in degrees that a browser gives."""
    a, b, c = np.radians([alpha, beta, gamma])
    about_z = np.array([[np.cos(a), -np.sin(a), 0.0], [np.sin(a), np.cos(a), 0.0], [0.0, 0.0, 1.0]])
    about_x = np.array([[1.0, 0.0, 0.0], [0.0, np.cos(b), -np.sin(b)], [0.0, np.sin(b), np.cos(b)]])
    about_y = np.array([[np.cos(c), 0.0, np.sin(c)], [0.0, 1.0, 0.0], [-np.sin(c), 0.0, np.cos(c)]])
    return np.asarray(about_z @ about_x @ about_y)


def held(alpha: float, beta: float, gamma: float, screen: float = 0.0) -> Pose:
    """Where the camera of a phone points, held as a browser says (degrees), its picture turned by the angle
    of the screen. The azimuth counts from the north that ``alpha`` counts from."""
    axes, s = rotation(alpha, beta, gamma), np.radians(screen)
    forward = -axes[:, 2]
    top = axes @ np.array([np.sin(s), np.cos(s), 0.0])
    azimuth, altitude = np.arctan2(forward[0], forward[1]), np.arcsin(np.clip(forward[2], -1.0, 1.0))
    right = np.array([np.cos(azimuth), -np.sin(azimuth), 0.0])
    upward = np.cross(right, forward)
    roll = np.degrees(np.arctan2(top @ right, top @ upward))
    return Pose(float(np.degrees(azimuth) % 360), float(np.degrees(altitude)), float(roll))


def turn_to(now: Pose, wanted: Pose) -> Turn:
    """How a camera at a pose has to be turned to another."""
    return Turn(
        (wanted.azimuth - now.azimuth + 180) % 360 - 180,
        wanted.altitude - now.altitude,
        (wanted.roll - now.roll + 180) % 360 - 180,
    )


def seen(enu: Array) -> tuple[float, float]:
    """Azimuth and altitude in degrees, as the air shows it, of an airless unit vector (east, north, up)."""
    altitude = float(np.degrees(np.arcsin(np.clip(enu[2], -1, 1))))
    return bent(altitude, float(np.degrees(np.arctan2(enu[0], enu[1]))))


def bent(altitude: float, azimuth: float) -> tuple[float, float]:
    """Azimuth and altitude in degrees as the air shows them, of airless ones."""
    return azimuth % 360, altitude + float(refraction(np.array([altitude]))[0])


def known_marks(site: Site, unix: float) -> list[Mark]:
    """The Moon, planets, bright stars and the pole that are up, to aim at, the brightest first."""
    places, year, t = {}, year_of(unix), np.array([float(unix)])
    for what in (MOON, *PLANETS):
        alt, az = position(site, year, t, what)
        places[what.name.replace("The ", "the ")] = bent(float(alt[0]), float(az[0]))
    vectors = unit(*np.array(list(STARS.values())).T) @ to_horizon(site, unix).T
    places |= {name: seen(v) for name, v in zip(STARS, vectors, strict=True)}
    places["the pole"] = (0.0 if site.lat >= 0 else 180.0, abs(site.lat))
    return [Mark(name, az, alt) for name, (az, alt) in places.items() if alt >= LOWEST]


def by_hand(pose: Pose, marks: Sequence[Mark]) -> str:
    """Where to point from the brightest known thing near it, in hands at arm's length; empty when none is
    near. ``marks`` come in the order of their brightness."""
    near = next((m for m in marks if _apart(pose, m) < NEAR), None)
    near = near or min(marks, key=lambda m: _apart(pose, m), default=None)
    if near is None or _apart(pose, near) > FARTHEST:
        return ""
    middle = np.radians((pose.altitude + near.altitude) / 2)
    right = ((pose.azimuth - near.azimuth + 180) % 360 - 180) * float(np.cos(middle))
    up = pose.altitude - near.altitude
    parts = [
        f"{spoken} {way}"
        for value, way in ((right, "right" if right > 0 else "left"), (up, "up" if up > 0 else "down"))
        if (spoken := hands(abs(value)))
    ]
    return f"From {near.name}: {', '.join(parts)}." if parts else f"At {near.name}."


def _apart(pose: Pose, mark: Mark) -> float:
    a, b = np.radians([pose.altitude, mark.altitude])
    d = np.radians(pose.azimuth - mark.azimuth)
    return float(
        np.degrees(np.arccos(np.clip(np.sin(a) * np.sin(b) + np.cos(a) * np.cos(b) * np.cos(d), -1, 1)))
    )


def hands(degrees: float) -> str:
    """An angle in fists and fingers at arm's length; empty under half a degree."""
    if degrees < FINGER / 2:
        return ""
    if degrees < 3.5:
        count = max(round(degrees / FINGER), 1)
        return f"{COUNTS[count]} little finger{'s' if count > 1 else ''}"
    if degrees < 7.5:
        return "three fingers"
    halves = round(2 * degrees / FIST)
    whole, half = divmod(halves, 2)
    if not half:
        return f"{COUNTS[whole]} fist{'s' if whole > 1 else ''}"
    return "half a fist" if not whole else f"{COUNTS[whole]} and a half fists"
