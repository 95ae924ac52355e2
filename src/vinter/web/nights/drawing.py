"""The night strip as numbers to draw: positions, tones and lines. No judgement is made here."""

from dataclasses import dataclass
from datetime import datetime
from typing import Any

import numpy as np
import numpy.typing as npt

from vinter.core.sky.brightness import to_magnitudes
from vinter.core.sky.ephemeris import year_of
from vinter.core.sky.nights import Night, evening_of
from vinter.core.sky.site import Site
from vinter.core.sky.target_track import Track, track
from vinter.core.sky.targets import Target
from vinter.web.conventions import as_wished, dated, hour_mark

PAPER, INK, MOONWASH = (241, 243, 242), (16, 33, 63), (149, 178, 212)
EMBER = (190, 0, 0)
DAY_MAG, DARK_MAG = 17.0, 21.1
COST_NAMES = ("towns", "moon", "twilight")
COST_LIMIT = 4.0


@dataclass(frozen=True, kw_only=True)
class Strip:
    """A drawn night: width and height in px, gradient stops, curves as SVG paths, hour ticks, brackets."""

    width: int
    height: int
    start: float
    end: float
    stops: list[tuple[str, str]]
    core: str
    moon: str
    ticks: list[tuple[float, str]]
    brackets: list[dict[str, Any]]
    costs: list[tuple[str, str]]
    levels: list[tuple[float, int]]
    samples: list[dict[str, Any]]
    ground: str

    def x(self, unix: float) -> float:
        """Horizontal place of a time."""
        return round((unix - self.start) / (self.end - self.start) * self.width, 2)


def _darkness(track: Track) -> npt.NDArray[np.float64]:
    """Darkness 0 to 1 of the sky at the target; below the horizon, where no town shines, without the towns.

    Around what shines by itself moonlight is left out: it is the Moon, or does not mind it.
    """
    parts = track.parts
    seen = parts.total - np.where(track.alt < 0, parts.towns, 0) - (0 if track.what.dark else parts.moon)
    return np.asarray(np.clip((to_magnitudes(seen) - DAY_MAG) / (DARK_MAG - DAY_MAG), 0, 1) ** 1.5)


def _up(track: Track, min_altitude: float) -> npt.NDArray[np.float64]:
    """Where the target stands high enough, clear of the ground and not too high."""
    return np.asarray(
        (track.alt >= np.maximum(track.ground, min_altitude)) & (track.alt <= track.what.highest)
    )


def tones(track: Track, min_altitude: float = 10.0) -> npt.NDArray[np.float64]:
    """Colours (n, 3) of a track's samples: ink by darkness, pale where the target is low, washed where the
    Moon shines."""
    dark = _darkness(track)
    strength = dark * np.where(_up(track, min_altitude), 1.0, 0.28)
    wash = (
        np.clip(track.parts.costs()["moon"] / 2.5, 0, 0.85) * dark if track.what.dark else np.zeros_like(dark)
    )
    paper, ink, moon = (np.array(c, float) for c in (PAPER, INK, MOONWASH))
    tone = paper + (ink - paper) * strength[:, None]
    return np.asarray(np.round(tone + (moon - tone) * wash[:, None]), np.uint8)


def embers(track: Track, min_altitude: float = 10.0) -> npt.NDArray[np.float64]:
    """The same in red light only: black where it is dark and the target is up."""
    dark = _darkness(track)
    share = 0.65 - 0.65 * dark * np.where(_up(track, min_altitude), 1.0, 0.75)
    return np.asarray(np.round(np.array(EMBER, float) * share[:, None]), np.uint8)


def _path(x: npt.NDArray[np.float64], y: npt.NDArray[np.float64]) -> str:
    return "M" + "L".join(f"{a:.1f} {b:.1f}" for a, b in zip(x, y, strict=True)) if len(x) else ""


def _runs(x: npt.NDArray[np.float64], y: npt.NDArray[np.float64], shown: npt.NDArray[np.bool_]) -> str:
    """Path of the shown stretches only."""
    edges = np.flatnonzero(np.diff(np.r_[False, shown, False].astype(int)))
    return " ".join(_path(x[a:b], y[a:b]) for a, b in zip(edges[::2], edges[1::2], strict=True) if b - a > 1)


def _cost_areas(track: Track, x: npt.NDArray[np.float64], height: float) -> list[tuple[str, str]]:
    """Stacked areas from the top down, cut at the limit."""
    costs, upper, out = track.parts.costs(), np.zeros(len(x)), []
    for name in COST_NAMES:
        lower = upper + costs[name]
        a, b = (np.minimum(v, COST_LIMIT) / COST_LIMIT * height for v in (upper, lower))
        out.append((name, _path(np.r_[x, x[::-1]], np.r_[a, b[::-1]]) + "Z"))
        upper = lower
    return out


def _ticks(site: Site, start: float, end: float, width: int) -> list[tuple[float, str]]:
    first = datetime.fromtimestamp(start, site.zone)
    whole = start - first.minute * 60 - first.second
    out = []
    for i in range(1, 27):
        at = whole + 3600 * i
        if at <= end:
            out.append(
                (
                    round((at - start) / (end - start) * width, 1),
                    hour_mark(datetime.fromtimestamp(at, site.zone).hour),
                )
            )
    return out


def _samples(track: Track) -> list[dict[str, object]]:
    """What the cursor reads, every sample."""
    parts, costs, contrast = track.parts, track.costs, track.contrast
    lit = track.illuminated
    return [
        {
            "t": float(track.t[i]),
            "alt": round(float(track.alt[i]), 1),
            "az": round(float(track.az[i])),
            "tilt": round(float(track.tilt[i])),
            "sky": round(float(parts.brightness[i]), 2),
            "err": round(float(parts.uncertainty[i]), 2),
            "sun": round(float(track.sun_alt[i]), 1),
            "moon": round(float(track.moon_alt[i]), 1),
            "lit": round(100 * float(lit[i])),
            "contrast": None if contrast is None else round(float(contrast[i]), 2),
            "cost": {name: round(float(v[i]), 2) for name, v in costs.items()},
        }
        for i in range(len(track.t))
    ]


def reading(site: Site, unix: float, what: Target) -> dict[str, object]:
    """What stands at one minute: day and time in the site's zone and the figures the cursor of a strip
    shows."""
    at = track(site, year_of(unix), np.array([float(unix)]), what)
    local = datetime.fromtimestamp(unix, site.zone)
    evening = evening_of(site, unix)
    return {
        "day": evening.isoformat(),
        "evening": dated(evening, "D j M"),
        "time": as_wished(f"{local:%H:%M}"),
        **_samples(at)[0],
    }


def draw(
    site: Site,
    night: Night,
    width: int = 860,
    height: int = 220,
    top: float = 45.0,
    min_altitude: float = 10.0,
    red: bool = False,
) -> Strip | None:
    """The strip of a night from sunset to sunrise; None where the Sun never sets."""
    track = night.strip
    if len(track.t) < 3:
        return None
    start, end = float(track.t[0]), float(track.t[-1])
    x = (track.t - start) / (end - start) * width
    top = max(top, float(np.ceil(track.alt.max() / 10) * 10))
    step = 10 if top <= 50 else 20
    colours = embers(track, min_altitude) if red else tones(track, min_altitude)
    stops = [
        (f"{100 * x[i] / width:.2f}%", "#{:02x}{:02x}{:02x}".format(*colours[i]))
        for i in range(0, len(x), 2 if width > 500 else 4)
    ]

    def y(altitude: npt.NDArray[np.float64]) -> npt.NDArray[np.float64]:
        return height - np.asarray(altitude) / top * height

    shown_moon = (track.moon_alt > 0) & (track.moon_alt < top)
    strip = Strip(
        width=width,
        height=height,
        start=start,
        end=end,
        stops=stops,
        core=_runs(x, y(track.alt), track.alt > 0),
        moon=_runs(x, y(track.moon_alt), shown_moon),
        ticks=_ticks(site, start, end, width),
        brackets=[],
        costs=_cost_areas(track, x, 150.0),
        levels=[(float(y(np.array(a))), a) for a in range(10, int(top), step)],
        samples=_samples(track),
        ground=_path(np.r_[x, x[::-1]], np.r_[y(track.ground), np.full(len(x), height)]) + "Z"
        if site.horizon
        else "",
    )
    for w in night.windows:
        strip.brackets.append({"x0": strip.x(w.start), "x1": strip.x(w.end), "start": w.start, "end": w.end})
    return strip
