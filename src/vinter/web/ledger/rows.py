"""The ledger as a table: one row a shot, with what was planned and what came of it."""

from typing import Any

from vinter.web.finish.models import Export
from vinter.web.shots.models import Shot
from vinter.web.stacks.models import Stack

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
)


def ledger_rows(owner: Any) -> list[dict[str, Any]]:
    """Every shot of a person as plain data, newest first; None where nothing is known."""
    rows = []
    for shot in Shot.objects.filter(owner=owner).select_related("site", "phone"):
        reports: list[dict[str, Any]] = [s.report for s in Stack.objects.filter(take__shot=shot) if s.report]
        best = max(reports, key=lambda r: r["frames_used"], default={})
        values = (
            shot.night.isoformat(),
            shot.site.name,
            shot.title,
            shot.phone.name,
            shot.lens,
            shot.iso,
            shot.shutter,
            shot.frames,
            best.get("frames_used"),
            best.get("noise_gain"),
            round(shot.plan["at"]["brightness"], 2),
            Export.objects.filter(finish__stack__take__shot=shot, made_width__isnull=False).count(),
            shot.lesson,
        )
        rows.append(dict(zip(COLUMNS, values, strict=True)))
    return rows
