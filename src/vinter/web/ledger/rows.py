"""The ledger as a table: one row a shot (or take that was not planned), with what was planned, set and
measured, and what came of it."""

from typing import Any

from vinter.web.ledger.records import Night, Work, nights_of
from vinter.web.shots.models import Shot

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
)


def ledger_rows(owner: Any) -> list[dict[str, Any]]:
    """Every shot and unplanned take of a person as plain data, newest night first; None where nothing is
    known."""
    rows = []
    for night in nights_of(owner):
        for shot, works in _by_shot(night).items():
            rows.append(_row(night, shot, works))
    return rows


def _by_shot(night: Night) -> dict[Shot | None, list[Work]]:
    """The works of a night by their shot; takes that were not planned each by itself."""
    out: dict[Any, list[Work]] = {}
    for work in night.works:
        out.setdefault(work.shot or work, []).append(work)
    return {key if isinstance(key, Shot) else None: works for key, works in out.items()}


def _row(night: Night, shot: Shot | None, works: list[Work]) -> dict[str, Any]:
    reports: list[dict[str, Any]] = [s.report for w in works for s in w.stacks if s.report]
    best = max(reports, key=lambda r: r["frames_used"], default={})
    sky = min((r["sky"] for r in reports if r.get("sky")), key=lambda s: s["error"], default={})
    got = [w.got for w in works if w.got]
    first = got[0] if got else None
    take = works[0].take
    return {
        "night": night.day.isoformat(),
        "site": night.site.name if night.site else None,
        "title": shot.title if shot else take.title if take else "",
        "phone": shot.phone.name if shot else take.phone.name if take and take.phone else None,
        "lens": shot.lens if shot else None,
        "iso": shot.iso if shot else None,
        "shutter_s": shot.shutter if shot else None,
        "frames_planned": shot.frames if shot else None,
        "frames_stacked": best.get("frames_used"),
        "noise_gain": best.get("noise_gain"),
        "sky_planned_mag_arcsec2": round(shot.plan["at"]["brightness"], 2) if shot else None,
        "exports": sum(len(w.exports) for w in works),
        "lesson": shot.lesson if shot else "",
        "frames_kept": sum(g.kept for g in got) if got else None,
        "light_s": sum(g.light_s for g in got) if got else None,
        "iso_set": first.isos[0] if first and first.isos else None,
        "shutter_set_s": first.shutters[0] if first and first.shutters else None,
        "star_width_px": _rounded(first.width_px) if first else None,
        "trail_px": _rounded(first.trail_px) if first else None,
        "sky_measured_mag_arcsec2": _rounded(sky.get("zenith")),
        "sky_measured_error": _rounded(sky.get("error")),
        "chance_said": shot.said.get("chance") if shot else None,
        "sky_came": shot.sky_came if shot else "",
    }


def _rounded(value: float | None) -> float | None:
    return None if value is None else round(value, 2)
