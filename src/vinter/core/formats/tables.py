"""Nights as tables: JSON data, CSV and iCalendar."""

from collections.abc import Sequence
from datetime import UTC, datetime, timedelta

from icalendar import Alarm, Calendar, Event

from vinter.core.formats.spreadsheet import csv_text
from vinter.core.sky.nights import Moment, Night, Window
from vinter.core.sky.site import Site
from vinter.core.sky.verdict import Verdict


def iso(unix: float) -> str:
    """UTC ISO 8601 with Z, to the second."""
    return datetime.fromtimestamp(round(unix), UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


def _times(events: dict[str, list[float]]) -> dict[str, list[str]]:
    return {name: [iso(t) for t in times] for name, times in events.items()}


def _moment(m: Moment) -> dict[str, object]:
    return {"time": iso(m.t), "altitude": round(m.altitude, 3), "azimuth": round(m.azimuth, 3)}


def _window(w: Window) -> dict[str, object]:
    best = {
        **_moment(w.best),
        "tilt": round(w.best.tilt, 2),
        "brightness": round(w.best.brightness, 3),
        "uncertainty": round(w.best.uncertainty, 2),
        "contrast": round(w.best.contrast, 3),
        "cost": {k: round(v, 3) for k, v in w.best.cost.items()},
    }
    return {
        "start": iso(w.start),
        "end": iso(w.end),
        "minutes": round(w.minutes, 1),
        "usable_minutes": round(w.usable, 1),
        "suburb_minutes": round(w.suburb, 1),
        "best": best,
    }


def night_data(night: Night, verdict: Verdict) -> dict[str, object]:
    """One night as plain JSON data."""
    return {
        "date": night.day.isoformat(),
        "sun": _times(night.sun),
        "moon": {
            **_times(night.moon),
            "illuminated_fraction": round(night.illuminated, 4),
            "days_from_new": round(night.new_moon_days, 2),
        },
        "target": {**_times(night.target), "highest": _moment(night.highest)},
        "windows": [_window(w) for w in night.windows],
        "usable_minutes": round(night.usable, 1),
        "suburb_minutes": round(night.suburb, 1),
        "score": verdict.score,
        "verdict": verdict.word,
        "reasons": verdict.reasons,
        "schools": {
            key: {
                "name": s.name,
                "yes": s.yes,
                "value": round(s.value, 2),
                "threshold": s.threshold,
                "words": s.words,
            }
            for key, s in verdict.schools.items()
        },
    }


COLUMNS = (
    "date",
    "sunset",
    "astronomical_dusk",
    "astronomical_dawn",
    "sunrise",
    "moonrise",
    "moonset",
    "moon_lit_percent",
    "window_start",
    "window_end",
    "window_minutes",
    "usable_minutes",
    "best_time",
    "best_altitude_deg",
    "best_azimuth_deg",
    "sky_mag_arcsec2",
    "score",
    "verdict",
    "windows",
)
LEAST_MINUTES = 15.0  # minutes of use that a window of the calendar has unless all are asked for


def nights_csv(nights: list[Night], verdicts: list[Verdict]) -> str:
    """Nights as CSV, one row a night with its best window and all of them; times in UTC, several events
    joined by a space."""
    rows = []

    def joined(times: list[float]) -> str:
        return " ".join(iso(t) for t in times)

    for n, v in zip(nights, verdicts, strict=True):
        w = n.best
        window = (
            ("", "", "", "", "", "", "", "")
            if w is None
            else (
                iso(w.start),
                iso(w.end),
                f"{w.minutes:.1f}",
                f"{n.usable:.1f}",
                iso(w.best.t),
                f"{w.best.altitude:.2f}",
                f"{w.best.azimuth:.2f}",
                f"{w.best.brightness:.2f}",
            )
        )
        rows.append(
            (
                n.day.isoformat(),
                joined(n.sun["set"]),
                joined(n.sun["astronomical_dusk"]),
                joined(n.sun["astronomical_dawn"]),
                joined(n.sun["rise"]),
                joined(n.moon["rise"]),
                joined(n.moon["set"]),
                f"{100 * n.illuminated:.1f}",
                *window,
                v.score,
                v.word,
                " ".join(f"{iso(w.start)}/{iso(w.end)}" for w in n.windows),
            )
        )
    return csv_text(COLUMNS, rows)


def worth_leaving(night: Night, verdict: Verdict) -> list[Window]:
    """The windows of a night that are worth leaving for: of a night at least fair, those with minutes
    enough."""
    return [w for w in night.windows if verdict.worth_going and w.usable >= LEAST_MINUTES]


def nights_ics(
    site: Site,
    nights: list[Night],
    verdicts: list[Verdict],
    notes: Sequence[str] = (),
    every_window: bool = False,
) -> str:
    """The windows of nights as iCalendar events in the site's time zone, with notes and an alarm three hours
    before: those worth leaving for, or every one."""
    calendar = Calendar()
    calendar.add("prodid", "-//Vinter//Nights//EN")
    calendar.add("version", "2.0")
    stamp = datetime.now(UTC).replace(microsecond=0)
    for n, v in zip(nights, verdicts, strict=True):
        for w in n.windows if every_window else worth_leaving(n, v):
            event = Event()
            event.add("uid", f"{n.day.isoformat()}-{round(w.start)}-{site.lat:.4f}-{site.lon:.4f}@vinter")
            event.add("dtstamp", stamp)
            event.add(
                "summary",
                f"{n.what.name}{f' at {site.name}' if site.name else ''}: {w.usable:.0f} usable min, "
                f"{v.word}",
            )
            event.add("dtstart", datetime.fromtimestamp(round(w.start), site.zone))
            event.add("dtend", datetime.fromtimestamp(round(w.end), site.zone))
            event.add("description", "\n".join([*v.reasons, *notes]))
            if site.name:
                event.add("location", site.name)
            event.add("geo", (site.lat, site.lon))
            alarm = Alarm()
            alarm.add("action", "DISPLAY")
            alarm.add("description", f"Pack and leave: {n.what.name}")
            alarm.add("trigger", timedelta(hours=-3))
            event.add_component(alarm)
            calendar.add_component(event)
    calendar.add_missing_timezones()
    return str(calendar.to_ical().decode())
