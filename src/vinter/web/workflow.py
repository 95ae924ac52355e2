"""The head of every page: the steps of the work in order, and where the current shot stands in them."""

from dataclasses import dataclass
from typing import TYPE_CHECKING

from django.urls import reverse

if TYPE_CHECKING:
    from datetime import date

    from vinter.web.finish.models import Finish
    from vinter.web.shots.models import Shot
    from vinter.web.sites.models import Site
    from vinter.web.stacks.models import Stack
    from vinter.web.takes.models import Take


@dataclass(frozen=True)
class StepLink:
    """A step of the work: where it leads, whether it is this page, whether the current shot has reached
    it."""

    name: str
    url: str
    here: bool
    reached: bool


def _skyline(site: "Site | None", shot: "Shot | None") -> str | None:
    if site is None:
        return None
    return reverse("skyline", args=[site.pk]) + (f"?{shot.skyline_query}" if shot else "")


def head(
    here: str,
    site: "Site | None" = None,
    shot: "Shot | None" = None,
    take: "Take | None" = None,
    stack: "Stack | None" = None,
    finish: "Finish | None" = None,
    day: "date | None" = None,
    context: str = "",
) -> dict[str, object]:
    """Template context of the page head. Give the furthest thing at hand; what came before follows from
    it."""
    stack = stack or (finish.stack if finish else None)
    take = take or (stack.take if stack else None)
    shot = shot or (take.shot if take else None)
    site = site or (shot.site if shot else None)
    day = day or (shot.night if shot else None)
    own = {
        "Sites": reverse("site", args=[site.pk]) if site else None,
        "Season": None,
        "Night": reverse("night", args=[site.pk, day.isoformat()]) if site and day else None,
        "Skyline": _skyline(site, shot),
        "Shot": reverse("shot", args=[shot.pk]) if shot else None,
        "Field": reverse("card", args=[shot.pk]) if shot else None,
        "Takes": reverse("take", args=[take.pk]) if take else None,
        "Stack": reverse("stack", args=[stack.pk]) if stack else None,
        "Finish": reverse("finish", args=[finish.pk]) if finish else None,
        "Ledger": reverse("ledger"),
    }
    lists = {
        "Sites": "sites",
        "Season": "first-season",
        "Night": "next-night",
        "Skyline": "first-skyline",
        "Shot": "shots",
        "Field": "cards",
        "Takes": "takes",
        "Stack": "stacks",
        "Finish": "finishes",
        "Ledger": "ledger",
    }
    steps = [
        StepLink(
            name,
            (own[name] if name != here else None) or reverse(lists[name]),
            name == here,
            own[name] is not None and name not in ("Ledger", "Skyline" if not shot else ""),
        )
        for name in lists
    ]
    return {"steps": steps, "head_context": context or (site.name if site else "")}
