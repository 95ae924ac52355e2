"""The head of every page: the steps of the work in order, and where the current shot stands in them."""

from dataclasses import dataclass
from datetime import date
from typing import Protocol

from django.urls import reverse


class Row(Protocol):
    """A row of any kind, by its number."""

    @property
    def pk(self) -> int:
        """Its number."""
        ...


class SiteRow(Row, Protocol):
    """What the head wants of a site."""

    @property
    def name(self) -> str:
        """As it is called."""
        ...


class ShotRow(Row, Protocol):
    """What the head wants of a shot."""

    @property
    def site(self) -> SiteRow:
        """Where it is shot."""
        ...

    @property
    def night(self) -> date:
        """The evening's day."""
        ...

    @property
    def skyline_query(self) -> str:
        """The address's part that shows it over the skyline."""
        ...


class TakeRow(Row, Protocol):
    """What the head wants of a take."""

    @property
    def shot(self) -> ShotRow | None:
        """The plan it follows, if any."""
        ...


class StackRow(Row, Protocol):
    """What the head wants of a stack."""

    @property
    def take(self) -> TakeRow:
        """Whose frames it is of."""
        ...


class FinishRow(Row, Protocol):
    """What the head wants of a finish."""

    @property
    def stack(self) -> StackRow:
        """What it finishes."""
        ...


@dataclass(frozen=True)
class StepLink:
    """A step of the work: where it leads, whether it is this page, whether the current shot has reached
    it."""

    name: str
    url: str
    here: bool
    reached: bool


def _skyline(site: SiteRow | None, shot: ShotRow | None) -> str | None:
    if site is None:
        return None
    return reverse("skyline", args=[site.pk]) + (f"?{shot.skyline_query}" if shot else "")


def head(
    here: str,
    site: SiteRow | None = None,
    shot: ShotRow | None = None,
    take: TakeRow | None = None,
    stack: StackRow | None = None,
    finish: FinishRow | None = None,
    day: date | None = None,
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
