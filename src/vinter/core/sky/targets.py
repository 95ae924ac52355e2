"""What can be photographed up there: where it stands, how bright it is and what it asks for."""

from dataclasses import dataclass
from functools import cache, lru_cache
from pathlib import Path

import numpy as np

from vinter.core.errors import BadInput
from vinter.core.sky import ephemeris as eph
from vinter.core.sky.brightness import to_magnitudes
from vinter.core.sky.catalogue import milky_way
from vinter.core.sky.ephemeris import GALACTIC_CENTRE, Array
from vinter.core.sky.galaxy import POLE_DEC, POLE_RA, arch_top, band_tilt, to_equatorial
from vinter.core.sky.site import Site

DATA = Path(__file__).parent / "data"
AHEAD = 3.0  # degrees of galactic longitude over which the lean of the band is taken


@dataclass(frozen=True, kw_only=True)
class Target:
    """One thing to point at.

    ``radec`` are ICRS degrees of a fixed direction; ``body`` names a moving one in the ephemeris;
    ``longitude`` is the galactic longitude (degrees) of a stretch of the band. ``surface`` is its own mean
    brightness in V mag/arcsec^2, None for what shines by itself (``dark`` False: the sky hardly matters).
    ``highest`` is the altitude in degrees above which it is no longer worth it, 90 for none; ``twilight`` the
    altitude of the Sun that is low enough for it, where that is higher than what the user asks for.
    """

    key: str
    name: str
    kind: str
    needs: str
    radec: tuple[float, float] | None = None
    body: str = ""
    longitude: float | None = None
    surface: float | None = None
    dark: bool = True
    highest: float = 90.0
    twilight: float | None = None

    @property
    def banded(self) -> bool:
        """Whether the lean shown is the band's rather than that of celestial north."""
        return self.longitude is not None


def mean_surface(magnitude: float, length: float, width: float) -> float:
    """Mean V mag/arcsec^2 of an ellipse of integrated magnitude, axes in arcminutes."""
    return float(magnitude + 2.5 * np.log10(np.pi / 4 * length * width * 3600))


@cache
def band_surface(longitude: float) -> float:
    """Surface brightness (V mag/arcsec^2, error 0.3) of the band's brightest 4 degrees around a galactic
    longitude."""
    light = milky_way()[0].values.astype(float)
    rows, columns = light.shape
    middle_column = round((longitude + 180) % 360 / 360 * columns)
    reach = columns // 90
    across = light.take(range(middle_column - reach, middle_column + reach + 1), axis=1, mode="wrap").mean(
        axis=1
    )
    middle = across[rows // 2 - rows // 12 : rows // 2 + rows // 12]
    width = round(4 / 180 * rows)
    return float(to_magnitudes(np.convolve(middle, np.full(width, 1 / width), "valid").max()))


def band(longitude: float, name: str = "") -> Target:
    """The stretch of the band at a galactic longitude in degrees."""
    l = longitude % 360
    ra, dec = to_equatorial(l, 0.0)
    return Target(
        key=f"band:{l:g}",
        name=name or f"Band at longitude {l:g}°",
        kind="band",
        needs="a dark sky; a stack of short frames",
        radec=(float(ra), float(dec)),
        longitude=l,
        surface=round(band_surface(l), 2),
    )


CORE = Target(
    key="core",
    name="Core of the galaxy",
    kind="band",
    needs="a dark sky down to the horizon below it; a stack of short frames",
    radec=GALACTIC_CENTRE,
    longitude=0.0,
    surface=21.0,
)
ARCH = Target(
    key="arch",
    name="The arch of the band",
    kind="arch",
    needs="a panorama of several frames; the top of the arch below 65°",
    surface=22.3,
    highest=65.0,
)
POLE = Target(
    key="pole",
    name="Trails around the pole",
    kind="pole",
    needs="an hour or more of frames without gaps",
    dark=False,
    twilight=-12.0,
)


def _cloud(
    key: str, name: str, radec: tuple[float, float], magnitude: float, length: float, width: float, needs: str
) -> Target:
    return Target(
        key=key,
        name=name,
        kind="cloud",
        needs=needs,
        radec=radec,
        surface=round(mean_surface(magnitude, length, width), 2),
    )


# The Magellanic clouds by V (RC3: B 0.91 and 2.70 less B-V 0.51 and 0.45) and the ellipse that holds half of
# their light: exponential discs of scale 101' (de Vaucouleurs 1957) and 43' along the longer axis
HALF_LIGHT = 0.75  # mag, half of the light
STACK = "a stack of short frames; main or tele lens"
CLOUDS = (
    _cloud(
        "lmc",
        "Large Magellanic Cloud",
        (80.89, -69.76),
        0.40 + HALF_LIGHT,
        339,
        288,
        "a dark southern sky; a stack of short frames",
    ),
    _cloud(
        "smc",
        "Small Magellanic Cloud",
        (13.19, -72.83),
        2.25 + HALF_LIGHT,
        144,
        87,
        "a dark southern sky; a stack of short frames",
    ),
    _cloud("carina-nebula", "Carina nebula", (161.26, -59.87), 1.0, 120, 120, STACK),
    _cloud("orion-nebula", "Orion nebula", (83.82, -5.39), 4.0, 65, 60, STACK),
    _cloud("lagoon", "Lagoon nebula", (270.92, -24.38), 5.0, 90, 40, STACK),
    _cloud(
        "sagittarius-cloud",
        "Small Sagittarius star cloud",
        (274.2, -18.55),
        3.1,
        120,
        60,
        "a dark sky; main lens",
    ),
    _cloud("andromeda", "Andromeda galaxy", (10.685, 41.269), 3.44, 190, 60, STACK),
    _cloud(
        "pleiades",
        "Pleiades",
        (56.75, 24.12),
        1.5,
        110,
        110,
        "tele or main lens; bright enough for a grey sky",
    ),
    _cloud("double-cluster", "Double cluster", (34.75, 57.13), 3.7, 60, 30, "tele or main lens"),
    _cloud(
        "omega-centauri",
        "Omega Centauri",
        (201.69, -47.48),
        3.9,
        36,
        36,
        "tele lens; a stack of short frames",
    ),
)
MOON = Target(
    key="moon",
    name="The Moon",
    kind="moon",
    needs="a short shutter at low ISO; tele lens",
    body="moon",
    dark=False,
    twilight=-6.0,
)
PLANETS = tuple(
    Target(
        key=key,
        name=key.capitalize(),
        kind="planet",
        needs="tele lens, or an eyepiece adapter",
        body=body,
        dark=False,
        twilight=-6.0,
    )
    for key, body in (
        ("venus", "venus"),
        ("mars", "mars"),
        ("jupiter", "jupiter barycenter"),
        ("saturn", "saturn barycenter"),
    )
)
STRETCHES = (
    (27.0, "Scutum star cloud"),
    (80.0, "Band in Cygnus"),
    (120.0, "Band in Cassiopeia"),
    (180.0, "Band in Auriga, away from the centre"),
    (225.0, "Winter band beside Orion"),
    (287.0, "Band in Carina"),
    (310.0, "Band in Crux and Centaurus"),
)


@cache
def constellations() -> dict[str, Target]:
    """The constellations by key (con:ori), pointing at their centres."""
    with np.load(DATA / "figures.npz") as data:
        names = data["names"].tobytes().decode().split("\n")
        centres = data["centres"].astype(float)
    out = {}
    for row, (ra, dec) in zip(names, centres, strict=True):
        short, _, name = row.replace("\u2005", " ").partition(" ")
        out[f"con:{short.lower()}"] = Target(
            key=f"con:{short.lower()}",
            name=name,
            kind="constellation",
            needs="main or ultra-wide lens; a little haze makes its bright stars stand out",
            radec=(ra, dec),
            surface=21.5,
        )
    return out


@cache
def shipped() -> dict[str, Target]:
    """Every target with a name, by key, in the order of a list to choose from."""
    stretches = [band(l, name) for l, name in STRETCHES]
    rows = [
        CORE,
        ARCH,
        *stretches,
        *CLOUDS,
        MOON,
        *PLANETS,
        POLE,
        *sorted(constellations().values(), key=lambda c: c.name),
    ]
    return {t.key: t for t in rows}


def _numbers(key: str, text: str, count: int) -> list[float]:
    try:
        values = [float(v) for v in text.split(",")]
    except ValueError:
        values = []
    if len(values) != count or not np.all(np.isfinite(values)):
        raise BadInput(
            f"target {key!r}: {'band:LONGITUDE' if count == 1 else 'at:RIGHT ASCENSION,DECLINATION'} in "
            "degrees is wanted"
        )
    return values


@lru_cache(maxsize=64)
def target(key: str) -> Target:
    """A target by key: a shipped one, band:LONGITUDE, or at:RA,DEC in degrees; BadInput for anything else."""
    named = shipped().get(key)
    if named is not None:
        return named
    kind, _, rest = key.partition(":")
    if kind == "band":
        return band(_numbers(key, rest, 1)[0])
    if kind == "at":
        ra, dec = _numbers(key, rest, 2)
        if not -90 <= dec <= 90:
            raise BadInput(f"target {key!r}: declination {dec:g} is not within -90 to 90 degrees")
        return Target(
            key=key,
            name=f"RA {ra % 360:g}°, Dec {dec:g}°",
            kind="point",
            needs=STACK,
            radec=(ra % 360, dec),
            surface=21.5,
        )
    raise BadInput(
        f"target {key!r} is not known; try core, arch, band:80, at:83.8,-5.4, moon, jupiter, pole, lmc or "
        "con:ori"
    )


def place(site: Site, year: int, t: Array, radec: tuple[float, float]) -> tuple[Array, Array]:
    """Airless altitude and azimuth (degrees) of an ICRS direction at Unix times within a year."""
    alt, az, _ = eph.horizontal(eph.year_direction(year, radec)(t), eph.year_ephemeris(year).gast(t), site)
    return alt, az


def position(site: Site, year: int, t: Array, what: Target) -> tuple[Array, Array]:
    """Airless altitude and azimuth (degrees) of a target at Unix times within a year."""
    if what.kind == "arch":
        return arch_top(*place(site, year, t, (POLE_RA, POLE_DEC)))
    if what.kind == "pole":
        return place(site, year, t, (0.0, 90.0 if site.lat >= 0 else -90.0))
    if what.body:
        alt, az, _ = eph.horizontal(eph.year_body(year, what.body)(t), eph.year_ephemeris(year).gast(t), site)
        return alt, az
    assert what.radec is not None
    return place(site, year, t, what.radec)


def lean(site: Site, year: int, t: Array, what: Target, alt: Array, az: Array) -> Array:
    """Lean from the vertical in degrees, right positive: of the band where the target is part of it, else of
    celestial north.

    The arch lies level at its top: 90.
    """
    if what.kind == "arch":
        return np.full_like(alt, 90.0)
    if what.longitude is not None:
        ra, dec = to_equatorial(what.longitude + AHEAD, 0.0)
        return band_tilt(alt, az, *place(site, year, t, (float(ra), float(dec))))
    north_alt, north_az = (np.radians(v) for v in place(site, year, t, (0.0, 90.0)))
    up, turn = np.radians(alt), north_az - np.radians(az)
    return np.asarray(
        np.degrees(
            np.arctan2(
                np.sin(turn) * np.cos(north_alt),
                np.cos(up) * np.sin(north_alt) - np.sin(up) * np.cos(north_alt) * np.cos(turn),
            )
        )
    )
