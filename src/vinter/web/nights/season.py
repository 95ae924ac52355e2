"""The season sheet: the strips of a year stacked, one row a night, as one picture."""

from dataclasses import dataclass
from datetime import date
from functools import lru_cache

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.sky.nights import Night, nights
from vinter.core.sky.site import Site
from vinter.core.sky.verdict import FAIR, Verdict, judge
from vinter.web.nights.drawing import PAPER, tones
from vinter.web.nights.outlook import runs

FIRST_HOUR, LAST_HOUR = 5, 20  # hours after local noon at the sheet's edges: 17:00 to 08:00
BIN = 300.0
WIDTH, HEIGHT = 780, 600


@dataclass(frozen=True)
class Season:
    """A year at a site: the sheet as PNG, and the best evening of every lunation with its bracket."""

    year: int
    png: bytes
    best: list[tuple[Night, Verdict, date, date]]
    brackets: list[dict[str, float]]
    months: list[tuple[float, str]]
    hours: list[tuple[float, str]]
    days: int


def _row(night: Night) -> npt.NDArray[np.uint8]:
    """Tones of one night in five-minute bins, paper where the Sun is up."""
    row = np.tile(np.array(PAPER, np.uint8), (round((LAST_HOUR - FIRST_HOUR) * 3600 / BIN), 1))
    bins = np.floor((night.strip.t - night.start - FIRST_HOUR * 3600) / BIN).astype(int)
    inside = (bins >= 0) & (bins < len(row))
    if inside.any():
        row[bins[inside]] = tones(night.strip)[inside]
    return row


def _y(day: date, first: date, days: int) -> float:
    return round((day - first).days / days * HEIGHT, 1)


def x_of(night: Night, unix: float) -> float:
    """Horizontal place on the sheet of a time in a night."""
    return round(float(np.clip(((unix - night.start) / 3600 - FIRST_HOUR) / (LAST_HOUR - FIRST_HOUR), 0, 1)) * WIDTH, 1)


@lru_cache(maxsize=12)
def season(site: Site, year: int) -> Season:
    """Compute and draw a calendar year."""
    first, last = date(year, 1, 1), date(year, 12, 31)
    found = nights(site, first, last)
    sheet = np.stack([_row(n) for n in found])
    picture = cv2.resize(sheet, (WIDTH * 2, HEIGHT * 2), interpolation=cv2.INTER_AREA if len(found) > HEIGHT * 2 else cv2.INTER_LINEAR)
    _, png = cv2.imencode(".png", picture[..., ::-1])
    judged = [(n, judge(site, n)) for n in found]
    best = runs([(n, v) for n, v in judged if v.score >= FAIR])
    brackets = []
    for night, _, start, end in best:
        window = night.best
        if window is not None:
            brackets.append({"x0": x_of(night, window.start), "x1": x_of(night, window.end), "y0": _y(start, first, len(found)),
                             "y1": _y(end, first, len(found)) + HEIGHT / len(found)})
    months = [(_y(date(year, m, 1), first, len(found)), date(year, m, 1).strftime("%b")) for m in range(1, 13)]
    hours = [((h - FIRST_HOUR) / (LAST_HOUR - FIRST_HOUR) * WIDTH, f"{(12 + h) % 24:02d}") for h in range(FIRST_HOUR + 1, LAST_HOUR + 1, 2)]
    return Season(year, png.tobytes(), best, brackets, months, hours, len(found))
