"""What a forecast says of a night: the chance of a clear sky, hour by hour, kept apart from what the clear
sky is worth."""

import csv
import io
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, fields
from datetime import UTC, date, datetime
from typing import Any

import numpy as np
import numpy.typing as npt

from vinter.core.errors import BadInput
from vinter.core.formats.spreadsheet import csv_text
from vinter.core.imported import Imported
from vinter.core.sky.ephemeris import altitude, year_ephemeris, year_of
from vinter.core.sky.nights import SUN_LEVELS, evening_of
from vinter.core.sky.site import CLEAN_EXTINCTION, Site

STALE_HOURS = 18.0  # hours after which a run is called old
USEFUL_DAYS = 10.0
MOST_HOURS = 24 * 20
DEW_MARGIN = 2.0  # K between air and dew point under which a lens fogs


@dataclass(frozen=True, kw_only=True)
class Hour:
    """One hour from Unix time ``t``: cloud cover (0 to 1) in three layers, relative humidity (0 to 1), dew
    point and temperature (deg C), wind (m/s), fog (0 to 1), extinction (mag/airmass)."""

    t: float
    cloud_low: float
    cloud_mid: float
    cloud_high: float
    humidity: float
    dew_point: float
    wind: float
    temperature: float
    fog: float = 0.0
    extinction: float = CLEAN_EXTINCTION

    def __post_init__(self) -> None:
        for name in ("cloud_low", "cloud_mid", "cloud_high", "humidity", "fog"):
            if not 0 <= getattr(self, name) <= 1:
                raise BadInput(f"{name} {getattr(self, name):g} is not a share within 0 to 1")
        for name, low, high in (
            ("temperature", -80, 60),
            ("dew_point", -90, 40),
            ("wind", 0, 120),
            ("extinction", 0.05, 3),
        ):
            if not low <= getattr(self, name) <= high:
                raise BadInput(f"{name} {getattr(self, name):g} is not within {low} to {high}")

    @property
    def clear(self) -> float:
        """Chance that a direction of the sky is free in this hour; high cloud still lets some of it
        through."""
        return (1 - self.cloud_low) * (1 - self.cloud_mid) * (1 - 0.7 * self.cloud_high) * (1 - self.fog)


@dataclass(frozen=True)
class Forecast:
    """A run of a forecast: when it was issued (Unix time), where it comes from, and its hours in order."""

    issued: float
    source: str
    hours: tuple[Hour, ...]

    def between(self, start: float, end: float) -> list[Hour]:
        """Hours that overlap a span of Unix times."""
        return [h for h in self.hours if h.t + 3600 > start and h.t < end]

    def age_hours(self, now: float) -> float:
        """Hours since it was issued."""
        return (now - self.issued) / 3600


@dataclass(frozen=True)
class Outlook:
    """A window under a forecast: chance of a clear sky (0 to 1), its error, the hours, and sentences for the
    person."""

    chance: float
    error: float
    hours: list[Hour]
    words: list[str]


def _remarks(hours: Sequence[Hour]) -> list[str]:
    cloud, fog = max(h.cloud_low for h in hours), max(h.fog for h in hours)
    closest = min(hours, key=lambda h: h.temperature - h.dew_point)
    cold, wind = min(h.temperature for h in hours), max(h.wind for h in hours)
    out = [f"{cold:.0f} °C at the coldest, wind up to {wind:.0f} m/s.".replace("-", "−")]
    if closest.temperature - closest.dew_point < DEW_MARGIN:
        out.append(
            f"Dew: the air comes within {max(closest.temperature - closest.dew_point, 0):.1f} K of the dew "
            "point; "
            "keep the lens warm and wipe it."
        )
    if fog > 0.3:
        out.append(f"Fog is likely in the worst hour ({100 * fog:.0f} %), on the road as well.")
    if cloud > 0.6:
        out.append(f"Low cloud reaches {100 * cloud:.0f} %.")
    if wind > 8:
        out.append("Wind shakes a light tripod: hang weight on it and keep it low.")
    return out


def outlook(forecast: Forecast, start: float, end: float, now: float) -> Outlook | None:
    """What a forecast says of a span of Unix times; None where it does not reach."""
    hours = forecast.between(start, end)
    if not hours or hours[-1].t + 3600 < end - 1800:
        return None
    lead = max(start - forecast.issued, 0) / 86400
    chance = float(np.mean([h.clear for h in hours]))
    return Outlook(chance, float(np.clip(0.08 + 0.035 * lead, 0.08, 0.4)), hours, _remarks(hours))


def state(forecast: Forecast | None, start: float, now: float) -> str:
    """In words why there is no chance to give, or how old the run is; empty when it is fresh."""
    if start < now - 86400:
        return "This night is over."
    if start - now > USEFUL_DAYS * 86400:
        return (
            f"Too far ahead: forecasts say nothing useful beyond {USEFUL_DAYS:.0f} days. What stands "
            "here is the clear-sky value."
        )
    if forecast is None:
        return "No forecast has been read for this site yet."
    age = forecast.age_hours(now)
    return f"This forecast is {age:.0f} hours old: ask again before you leave." if age > STALE_HOURS else ""


@dataclass(frozen=True)
class NightWeather:
    """The hours of one night, sunset to sunrise, with their extremes: mean chance of a free sky (0 to 1),
    lowest temperature (deg C), strongest wind (m/s), least spread to the dew point (K)."""

    day: date
    hours: list[Hour]

    @property
    def clear(self) -> float:
        """Mean chance of a free sky."""
        return float(np.mean([h.clear for h in self.hours]))

    @property
    def temperature(self) -> float:
        """The lowest."""
        return min(h.temperature for h in self.hours)

    @property
    def wind(self) -> float:
        """The strongest."""
        return max(h.wind for h in self.hours)

    @property
    def spread(self) -> float:
        """The least to the dew point."""
        return min(h.temperature - h.dew_point for h in self.hours)


def by_night(forecast: Forecast, site: Site) -> list[NightWeather]:
    """The hours of a forecast gathered by the night they belong to: those that begin or end with the Sun
    down.

    Where the Sun does not set a night has no hours and is left out.
    """
    if not forecast.hours:
        return []
    edges = np.array([h.t + offset for h in forecast.hours for offset in (0.0, 3600.0)])
    up = np.concatenate([_sun_up(site, part) for part in np.split(edges, _year_starts(edges))])
    dark = np.logical_not(up.reshape(-1, 2).all(axis=1)).tolist()
    nights: dict[date, list[Hour]] = {}
    for hour, kept in zip(forecast.hours, dark, strict=True):
        if kept:
            nights.setdefault(evening_of(site, hour.t), []).append(hour)
    return [NightWeather(day, hours) for day, hours in nights.items()]


def _year_starts(times: npt.NDArray[np.float64]) -> npt.NDArray[np.intp]:
    years = np.array([year_of(float(t)) for t in times])
    return np.flatnonzero(np.diff(years)) + 1


def _sun_up(site: Site, times: npt.NDArray[np.float64]) -> npt.NDArray[np.bool_]:
    """Whether the Sun stands above the horizon at Unix times of one year."""
    e = year_ephemeris(year_of(float(times[0])))
    return np.asarray(altitude(e.sun(times), e.gast(times), site) > SUN_LEVELS["horizon"])


COLUMNS = ("time", *(f.name for f in fields(Hour) if f.name != "t"))
OPTIONAL = ("fog", "extinction")


def _hour(row: dict[str, str], line: int, name: str) -> Hour:
    try:
        moment = datetime.fromisoformat(row["time"].strip().replace("Z", "+00:00"))
        values: dict[str, Any] = {
            c: float(row[c]) for c in COLUMNS[1:] if not (c in OPTIONAL and not (row.get(c) or "").strip())
        }
    except (KeyError, ValueError, AttributeError, TypeError) as error:
        raise BadInput(
            f"{name}, line {line}: {error}; wanted are a time like 2027-06-09T22:00:00Z and numbers"
        ) from error
    try:
        return Hour(t=(moment if moment.tzinfo else moment.replace(tzinfo=UTC)).timestamp(), **values)
    except BadInput as error:
        raise BadInput(f"{name}, line {line}: {error}") from error


def read_csv(text: str, name: str, issued: float) -> Imported[Forecast]:
    """A forecast from hourly CSV with the columns of ``COLUMNS`` (fog and extinction may be left out):
    the good hours, and why other lines were refused. BadInput when there is no good one."""
    reader = csv.DictReader(io.StringIO(text))
    try:
        missing = [c for c in COLUMNS if c not in (reader.fieldnames or []) and c not in OPTIONAL]
    except csv.Error as error:
        raise BadInput(f"{name}, line 1: {error}") from error
    if missing:
        raise BadInput(f"{name}: the column {missing[0]!r} is missing; wanted are {', '.join(COLUMNS)}")
    hours: list[Hour] = []
    refused: list[str] = []
    try:
        for row in reader:
            if len(hours) >= MOST_HOURS:
                raise BadInput(f"{name}: more than {MOST_HOURS} hours")
            try:
                hours.append(_hour(row, reader.line_num, name))
            except BadInput as error:
                refused.append(str(error))
    except csv.Error as error:
        raise BadInput(f"{name}, line {reader.line_num}: {error}") from error
    if not hours:
        raise BadInput(refused[0] if refused else f"{name}: no hour in it")
    found = Forecast(issued, f"file {name}", tuple(sorted(hours, key=lambda h: h.t)))
    return Imported(found, tuple(refused))


def write_csv(hours: Iterable[Hour]) -> str:
    """Hours as CSV that ``read_csv`` reads."""
    return csv_text(
        COLUMNS,
        (
            (
                datetime.fromtimestamp(h.t, UTC).strftime("%Y-%m-%dT%H:%M:%SZ"),
                *(getattr(h, c) for c in COLUMNS[1:]),
            )
            for h in hours
        ),
    )
