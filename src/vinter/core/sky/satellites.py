"""Passes of a space station over a site, from orbital elements the user imports (two-line or OMM)."""

import csv
import io
import json
from dataclasses import dataclass
from datetime import UTC, date, datetime

import numpy as np
import numpy.typing as npt
from sgp4 import omm
from skyfield.api import EarthSatellite, wgs84

from vinter.core.errors import BadInput
from vinter.core.json_input import read_json
from vinter.core.sky import ephemeris as eph
from vinter.core.sky.ephemeris import Array
from vinter.core.sky.site import Site

STEP = 10.0  # s between samples of a night
LOWEST = 10.0  # degrees, under which a pass is not worth a frame
DARK_SUN = -6.0
OLD_DAYS, DEAD_DAYS = 14.0, 60.0  # from which the page warns, and from which no pass is told
MOST = 50
# words in the names of the stations that a long file is read for
STATION_WORDS = ("ISS (", "CSS (", "TIANGONG", "STATION")
SHORTEST = 20  # s that a pass must be visible


@dataclass(frozen=True, kw_only=True)
class Pass:
    """One visible pass. Times in Unix seconds; ``path`` holds (time, altitude, azimuth) in degrees while it
    is lit and up.

    ``speed`` is its fastest motion in degrees per second; ``age`` the elements' age in days, from which the
    error follows.
    """

    name: str
    start: float
    top: float
    end: float
    altitude: float
    azimuth: float
    speed: float
    path: list[tuple[float, float, float]]
    enters_shadow: bool
    age: float

    @property
    def error_seconds(self) -> float:
        """How far the times may be off, s."""
        return error_seconds(self.age)


def error_seconds(days: float) -> float:
    """How far the times by elements of an age may be off, s: low orbits slip by 2 s times the days to the
    power of 1.5."""
    return float(1.0 + 2.0 * days**1.5)


def _from_fields(fields: object, name: str) -> EarthSatellite:
    timescale, _ = eph._kernel()
    try:
        if not isinstance(fields, dict):
            raise TypeError("a satellite that is no object")
        return EarthSatellite.from_omm(timescale, {k: str(v) for k, v in fields.items()})
    except (KeyError, ValueError, TypeError) as error:
        raise BadInput(f"{name}: orbital elements lack or spoil {error}") from error


def _two_line(text: str, name: str) -> list[EarthSatellite]:
    timescale, _ = eph._kernel()
    lines = [line.rstrip() for line in text.splitlines() if line.strip()]
    out, title = [], ""
    for i, line in enumerate(lines):
        if line.startswith("1 ") and len(line) >= 69:
            second = lines[i + 1] if i + 1 < len(lines) else ""
            if not (second.startswith("2 ") and len(second) >= 69):
                raise BadInput(f"{name}, line {i + 1}: the second line of the elements is missing")
            for part in (line, second):
                if sum(int(c) if c.isdigit() else c == "-" for c in part[:68]) % 10 != int(part[68]):
                    raise BadInput(
                        f"{name}: the checksum of {part[:24]!r}… is wrong; the file was changed or cut"
                    )
            out.append(EarthSatellite(line, second, title or "satellite", timescale))
        elif not line.startswith("2 "):
            title = line.removeprefix("0 ").strip()
    return out


def read_elements(data: bytes, name: str) -> list[EarthSatellite]:
    """Satellites of a file of two-line elements or OMM (JSON, CSV or XML), told apart by its content;
    BadInput says what is wrong."""
    try:
        text = data.decode("utf-8-sig").strip()
    except UnicodeDecodeError as error:
        raise BadInput(f"{name}: not a text file") from error
    if text.startswith(("[", "{")):
        rows = read_json(text, name)
        found = [_from_fields(row, name) for row in (rows if isinstance(rows, list) else [rows])]
    elif text.startswith("<"):
        if "<!DOCTYPE" in text or "<!ENTITY" in text:
            raise BadInput(f"{name}: XML with its own entities is not read")
        try:
            found = [_from_fields(row, name) for row in omm.parse_xml(io.StringIO(text))]
        except (ValueError, AttributeError, SyntaxError) as error:
            raise BadInput(f"{name}: not an OMM file ({error})") from error
    elif text.upper().startswith("OBJECT_NAME") or "MEAN_MOTION" in text[:400]:
        try:
            found = [_from_fields(row, name) for row in csv.DictReader(io.StringIO(text))]
        except csv.Error as error:
            raise BadInput(f"{name}: not an OMM file ({error})") from error
    else:
        found = _two_line(text, name)
    if not found:
        raise BadInput(f"{name}: no orbital elements in it")
    if len(found) > MOST:
        found = [s for s in found if any(word in s.name.upper() for word in STATION_WORDS)]
        if not 0 < len(found) <= MOST:
            raise BadInput(f"{name}: more than {MOST} satellites, and no station among them by its name")
    return found


@dataclass(frozen=True)
class ElementsAge:
    """How old elements are at a time: days, and whether they still tell a pass."""

    days: float

    @property
    def words(self) -> str:
        """What to say of it; empty while they are fresh."""
        if self.days > DEAD_DAYS:
            old = f"{self.days / 365.25:.1f} years" if self.days > 730 else f"{self.days:.0f} days"
            return f"These elements are {old} off: no pass can be told by them. Import today's."
        if self.days > OLD_DAYS:
            return (
                f"These elements are {self.days:.0f} days off: times may be wrong by "
                f"{error_seconds(self.days):.0f} s. Import newer ones."
            )
        return ""


def age_at(satellites: list[EarthSatellite], unix: float) -> ElementsAge:
    """The age of the freshest of some satellites' elements at a Unix time."""
    epochs = [float(s.epoch.utc_datetime().timestamp()) for s in satellites]
    return ElementsAge(min(abs(unix - e) for e in epochs) / 86400)


def made_up(day: date) -> bytes:
    """Elements of a station that does not exist, fresh for a day, as OMM in JSON: for trying passes out.

    Its plane lies so that it crosses the dusk of middle latitudes on any day; which passes are high changes
    from day to day.
    """
    sun = (day.timetuple().tm_yday - 80) * 0.9856
    return json.dumps(
        [
            {
                "OBJECT_NAME": "Made-up station",
                "OBJECT_ID": "2020-999A",
                "EPOCH": f"{day.isoformat()}T12:00:00.000000",
                "MEAN_MOTION": 15.49,
                "ECCENTRICITY": 0.0004,
                "INCLINATION": 51.64,
                "RA_OF_ASC_NODE": round((sun - 30) % 360, 4),
                "ARG_OF_PERICENTER": 90.0,
                "MEAN_ANOMALY": round((day.toordinal() * 97.3) % 360, 4),
                "EPHEMERIS_TYPE": 0,
                "CLASSIFICATION_TYPE": "U",
                "NORAD_CAT_ID": 99901,
                "ELEMENT_SET_NO": 1,
                "REV_AT_EPOCH": 1,
                "BSTAR": 0.0001,
                "MEAN_MOTION_DOT": 0.0001,
                "MEAN_MOTION_DDOT": 0,
            }
        ]
    ).encode()


def _runs(flags: npt.NDArray[np.bool_]) -> list[tuple[int, int]]:
    edges = np.flatnonzero(np.diff(np.r_[False, flags, False].astype(int)))
    return list(zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True))


@dataclass(frozen=True)
class _Watch:
    """A satellite watched from a site."""

    satellite: EarthSatellite
    site: Site

    def seen(self, t: Array) -> tuple[Array, Array, npt.NDArray[np.bool_]]:
        """Altitudes and azimuths (degrees) at Unix times, and whether it is up and lit."""
        timescale, bodies = eph._kernel()
        moments = timescale.from_datetimes([datetime.fromtimestamp(float(u), UTC) for u in t])
        place = wgs84.latlon(self.site.lat, self.site.lon, elevation_m=self.site.elevation)
        altitude, azimuth, _ = (self.satellite - place).at(moments).altaz()
        alt, az = np.asarray(altitude.degrees), np.asarray(azimuth.degrees)
        shown = np.isfinite(alt) & (alt > LOWEST)
        if shown.any():
            shown[shown] = self.satellite.at(moments[np.flatnonzero(shown)]).is_sunlit(bodies)
        return alt, az, shown

    def visible(self, t: Array) -> Pass | None:
        """The pass within a span of times and a step beyond its ends, to the second."""
        fine = np.arange(t[0] - STEP, t[-1] + STEP + 0.5, 1.0)
        alt, az, shown = self.seen(fine)
        if shown.sum() < SHORTEST:
            return None
        a, b = max(_runs(shown), key=lambda run: run[1] - run[0])
        moved = eph.separation(alt[a : b - 1], az[a : b - 1], alt[a + 1 : b], az[a + 1 : b])
        start, end = float(fine[a]), float(fine[b - 1])
        top = a + int(np.argmax(alt[a:b]))
        epoch = float(self.satellite.epoch.utc_datetime().timestamp())
        steps = [*range(a, b - 1, int(STEP)), b - 1]
        return Pass(
            name=self.satellite.name,
            start=start,
            top=float(fine[top]),
            end=end,
            altitude=float(alt[top]),
            azimuth=float(az[top]),
            speed=float(moved.max()),
            path=[(float(fine[i]), float(alt[i]), float(az[i])) for i in steps],
            enters_shadow=bool(b < len(fine) and not shown[b] and alt[b] > LOWEST),
            age=abs(start - epoch) / 86400,
        )


def passes(site: Site, satellites: list[EarthSatellite], start: float, end: float) -> list[Pass]:
    """Visible passes between two Unix times: sunlit, above 10 degrees, the Sun below -6; edges and
    culmination to the second, as far as the elements are good. None of a satellite whose elements are more
    than 60 days off."""
    if end - start > 3 * 86400:
        raise BadInput("passes are computed for three days at most")
    t = np.arange(start, end, STEP)
    year = eph.year_of(start)
    e = eph.year_ephemeris(year)
    dark = eph.altitude(e.sun(t), e.gast(t), site) < DARK_SUN
    t = t[dark]
    if not t.size:
        return []
    out = []
    for satellite in satellites:
        if age_at([satellite], start).days > DEAD_DAYS:
            continue
        watch = _Watch(satellite, site)
        _, _, shown = watch.seen(t)
        gap = np.r_[np.diff(t) > 1.5 * STEP, False]
        for a, b in _runs(shown & ~gap):
            found = watch.visible(t[a:b])
            if found is not None:
                out.append(found)
    return sorted(out, key=lambda p: p.start)
