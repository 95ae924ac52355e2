"""The ledger as a table: one row a take (and one for a shot that was not taken), with what was planned, set
and measured, and what came of it."""

from collections.abc import Iterator
from datetime import UTC, datetime
from typing import Any

from django.contrib.auth.models import User

from vinter.web.ledger.records import Night, Work, evenings_of, told

AT_ONCE = 150  # evenings whose frames are in memory at a time
COLUMNS = (
    "night",
    "site",
    "title",
    "phone",
    "lens",
    "iso",
    "shutter_s",
    "frames_planned",
    "frames_stacked",
    "noise_gain",
    "sky_planned_mag_arcsec2",
    "exports",
    "lesson",
    "frames_kept",
    "light_s",
    "iso_set",
    "shutter_set_s",
    "star_width_px",
    "trail_px",
    "sky_measured_mag_arcsec2",
    "sky_measured_error",
    "chance_said",
    "sky_came",
    "first_frame",
)


def ledger_rows(owner: User) -> Iterator[dict[str, object]]:
    """Every take of a person, and every shot that was not taken, as plain data, newest night first; None
    where nothing is known."""
    evenings = evenings_of(owner)
    parts = (told(evenings[k : k + AT_ONCE], drawn=False) for k in range(0, len(evenings), AT_ONCE))
    return (_row(night, work) for part in parts for night in part for work in night.works)


def _row(night: Night, work: Work) -> dict[str, object]:
    shot, take, got = work.shot, work.take, work.got
    reports: list[dict[str, Any]] = [s.report for s in work.stacks if s.report]
    best = max(reports, key=lambda r: r["frames_used"], default={})
    skies: list[dict[str, Any]] = [r["sky"] for r in reports if r.get("sky")]
    sky = min(skies, key=lambda s: float(s["error"]), default={})
    phone = shot.phone if shot else take.phone if take else None
    return {
        "night": night.day.isoformat(),
        "site": night.site.name if night.site else None,
        "title": shot.title if shot else take.title if take else "",
        "phone": phone.name if phone else None,
        "lens": shot.lens if shot else None,
        "iso": shot.iso if shot else None,
        "shutter_s": shot.shutter if shot else None,
        "frames_planned": shot.frames if shot else None,
        "frames_stacked": best.get("frames_used"),
        "noise_gain": best.get("noise_gain"),
        "sky_planned_mag_arcsec2": round(shot.plan["at"]["brightness"], 2) if shot else None,
        "exports": len(work.exports),
        "lesson": shot.lesson if shot else "",
        "frames_kept": got.kept if got else None,
        "light_s": got.light_s if got else None,
        "iso_set": got.isos[0] if got and got.isos else None,
        "shutter_set_s": got.shutters[0] if got and got.shutters else None,
        "star_width_px": _rounded(got.width_px) if got else None,
        "trail_px": _rounded(got.trail_px) if got else None,
        "sky_measured_mag_arcsec2": _rounded(sky.get("zenith")),
        "sky_measured_error": _rounded(sky.get("error")),
        "chance_said": shot.forecast_chance.get("chance") if shot else None,
        "sky_came": shot.sky_came if shot else "",
        "first_frame": _moment(got.first) if got else None,
    }


def _moment(unix: float | None) -> str | None:
    return None if unix is None else datetime.fromtimestamp(unix, UTC).isoformat(timespec="seconds")


def _rounded(value: float | None) -> float | None:
    return None if value is None else round(value, 2)
