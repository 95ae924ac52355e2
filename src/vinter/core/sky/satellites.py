"""Passes of a space station over a site, from orbital elements the user imports (two-line or OMM)."""

import csv
import io
import json
from dataclasses import dataclass
from datetime import UTC, date, datetime
from typing import Any

import numpy as np
from sgp4 import omm
from skyfield.api import EarthSatellite, wgs84

from vinter.core.errors import BadInput
from vinter.core.sky import ephemeris as eph
from vinter.core.sky.ephemeris import Array
from vinter.core.sky.site import Site

STEP = 10.0  # seconds between samples of a night
LOWEST = 10.0  # degrees, under which a pass is not worth a frame
DARK_SUN = -6.0
FRESH_DAYS = 5.0  # elements older than this are off by a minute or more
MOST = 50


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
        """How far the times may be off, s: low orbits slip by some 2 s a day squared of the elements' age."""
        return float(1.0 + 2.0 * self.age**1.5)


def _from_fields(fields: dict[str, Any], name: str) -> EarthSatellite:
    timescale, _ = eph._kernel()
    try:
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
        try:
            rows = json.loads(text)
        except ValueError as error:
            raise BadInput(f"{name}: not JSON ({error})") from error
        found = [_from_fields(row, name) for row in (rows if isinstance(rows, list) else [rows])]
    elif text.startswith("<"):
        if "<!DOCTYPE" in text or "<!ENTITY" in text:
            raise BadInput(f"{name}: XML with its own entities is not read")
        try:
            found = [_from_fields(row, name) for row in omm.parse_xml(io.StringIO(text))]
        except (ValueError, AttributeError, SyntaxError) as error:
            raise BadInput(f"{name}: not an OMM file ({error})") from error
    elif text.upper().startswith("OBJECT_NAME") or "MEAN_MOTION" in text[:400]:
        found = [_from_fields(row, name) for row in csv.DictReader(io.StringIO(text))]
    else:
        found = _two_line(text, name)
    if not found:
        raise BadInput(f"{name}: no orbital elements in it")
    if len(found) > MOST:
        raise BadInput(f"{name}: more than {MOST} satellites; keep the station's own")
    return found


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


def _runs(flags: Any) -> list[tuple[int, int]]:
    edges = np.flatnonzero(np.diff(np.r_[False, flags, False].astype(int)))
    return list(zip(edges[::2].tolist(), edges[1::2].tolist(), strict=True))


def _pass(satellite: EarthSatellite, t: Array, alt: Array, az: Array, lit: Any, ran: tuple[int, int]) -> Pass:
    a, b = ran
    top = a + int(np.argmax(alt[a:b]))
    moved = (
        eph.separation(alt[a : b - 1], az[a : b - 1], alt[a + 1 : b], az[a + 1 : b]) / STEP
        if b - a > 1
        else np.zeros(1)
    )
    epoch = float(satellite.epoch.utc_datetime().timestamp())
    path = [(float(t[i]), float(alt[i]), float(az[i])) for i in range(a, b)]
    return Pass(
        name=satellite.name,
        start=float(t[a]),
        top=float(t[top]),
        end=float(t[b - 1]),
        altitude=float(alt[top]),
        azimuth=float(az[top]),
        speed=float(moved.max()),
        path=path,
        enters_shadow=bool(b < len(t) and not lit[b] and alt[b] > LOWEST),
        age=abs(float(t[a]) - epoch) / 86400,
    )


def passes(site: Site, satellites: list[EarthSatellite], start: float, end: float) -> list[Pass]:
    """Visible passes between two Unix times: sunlit, above 10 degrees, the Sun below -6; within 10 s of their
    edges."""
    if end - start > 3 * 86400:
        raise BadInput("passes are computed for three days at most")
    t = np.arange(start, end, STEP)
    year = eph.year_of(start)
    e = eph.year_ephemeris(year)
    dark = eph.horizontal(e.sun(t), e.gast(t), site)[0] < DARK_SUN
    t = t[dark]
    if not t.size:
        return []
    timescale, bodies = eph._kernel()
    moments = timescale.from_datetimes([datetime.fromtimestamp(float(u), UTC) for u in t])
    place = wgs84.latlon(site.lat, site.lon, elevation_m=site.elevation)
    out = []
    for satellite in satellites:
        altitude, azimuth, _ = (satellite - place).at(moments).altaz()
        alt, az = np.asarray(altitude.degrees), np.asarray(azimuth.degrees)
        up = np.isfinite(alt) & (alt > LOWEST)
        lit = np.zeros(len(t), bool)
        if up.any():
            lit[up] = satellite.at(moments[np.flatnonzero(up)]).is_sunlit(bodies)
        gap = np.r_[np.diff(t) > 1.5 * STEP, False]
        out += [
            _pass(satellite, t, alt, az, lit, run) for run in _runs(up & lit & ~gap) if run[1] - run[0] >= 3
        ]
    return sorted(out, key=lambda p: p.start)
