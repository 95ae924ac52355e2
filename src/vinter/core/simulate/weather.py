"""The stand-in for a forecast service: made-up weather, the same for the same place and date, with a
service's habits."""

from dataclasses import dataclass
from datetime import UTC, datetime

import numpy as np

from vinter.core.forecast import Hour
from vinter.core.sky.ephemeris import Array

REACH_HOURS = 240
ISSUE_HOURS = 6  # hours between two runs
CELL_DEGREES = 0.5
WAVES = 9
CLOUD_LAYERS = (
    (2, 0.9, -1.3),
    (3, 1.0, -1.0),
    (4, 0.8, -0.6),
)  # seed, part in a front, how rare (logit): low, middle, high


def _wave(seed: list[int], hours: Array, longest: float) -> Array:
    """A smooth made-up series, about zero, unit variance, from a few waves of a seed."""
    rng = np.random.default_rng(seed)
    periods = longest / (1 + np.arange(WAVES)) ** 0.9
    phases, sizes = rng.uniform(0, 2 * np.pi, WAVES), 1 / (1 + np.arange(WAVES)) ** 0.6
    series = (sizes[:, None] * np.sin(2 * np.pi * hours / periods[:, None] + phases[:, None])).sum(axis=0)
    return np.asarray(series / np.sqrt((sizes**2).sum() / 2))


def _share(series: Array, bias: float) -> Array:
    return np.asarray(1 / (1 + np.exp(-(2.2 * series + bias))))


def weather(lat: float, lon: float, issued: float, count: int = REACH_HOURS) -> list[Hour]:
    """Hourly weather from the whole hour of a Unix time on; the same hour comes out the same in every run up
    to the run's own error, which grows with the lead."""
    start = np.floor(issued / 3600) * 3600
    t = start + 3600 * np.arange(count)
    hours = t / 3600
    cell = [int(np.floor((lat + 90) / CELL_DEGREES)), int(np.floor((lon + 180) / CELL_DEGREES))]
    run = int(issued // (ISSUE_HOURS * 3600))
    lead = (t - issued) / 86400
    error = np.random.default_rng([*cell, run]).standard_normal() * np.clip(lead / 8, 0, 0.9)
    front = _wave([*cell, 1], hours, 190) + error
    low, mid, high = (
        _share(front * weight + 0.5 * _wave([*cell, layer], hours, 60), bias)
        for layer, weight, bias in CLOUD_LAYERS
    )
    local = (hours + lon / 15) % 24
    season = np.cos(2 * np.pi * (t / 86400 / 365.25 - 0.54)) * (1 if lat >= 0 else -1)
    daily = -np.cos(2 * np.pi * (local - 3) / 24)
    temperature = 25 - abs(lat) * 0.32 + 7 * season + 5.5 * daily + 2 * _wave([*cell, 5], hours, 140)
    humidity = np.clip(0.68 - 0.17 * daily + 0.12 * front + 0.06 * _wave([*cell, 6], hours, 50), 0.08, 1)
    gamma = np.log(humidity) + 17.62 * temperature / (243.12 + temperature)
    dew = 243.12 * gamma / (17.62 - gamma)
    wind = np.clip(3.2 + 1.6 * front + 1.5 * _wave([*cell, 7], hours, 40), 0.2, None)
    fog = np.clip((humidity - 0.93) / 0.06, 0, 1) * np.clip((3.5 - wind) / 3, 0, 1)
    transparency = np.clip(0.20 + 0.12 * humidity + 0.05 * _wave([*cell, 8], hours, 90), 0.12, 0.6)
    columns = {
        "t": (t, 0),
        "cloud_low": (low, 3),
        "cloud_mid": (mid, 3),
        "cloud_high": (high, 3),
        "humidity": (humidity, 3),
        "dew_point": (dew, 1),
        "wind": (wind, 1),
        "temperature": (temperature, 1),
        "fog": (fog, 3),
        "extinction": (transparency, 3),
    }
    return [
        Hour(**{name: round(float(values[i]), digits) for name, (values, digits) in columns.items()})
        for i in range(count)
    ]


@dataclass(frozen=True)
class Answer:
    """What the service says: when the run was issued (Unix time) and its hours."""

    issued: float
    hours: list[Hour]


def answer(lat: float, lon: float, now: float, stale: bool = False) -> Answer:
    """The newest run at a Unix time; a stale service still gives the run of two days before."""
    period = ISSUE_HOURS * 3600
    issued = (now // period - (8 if stale else 0)) * period
    return Answer(issued, weather(lat, lon, issued))


def spoken(found: Answer) -> dict[str, object]:
    """An answer as the service's JSON."""
    from dataclasses import asdict

    return {
        "issued": datetime.fromtimestamp(found.issued, UTC).isoformat(),
        "hours": [asdict(h) for h in found.hours],
    }
