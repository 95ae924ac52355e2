"""What the address of a planning page asks for: target, hours, weekdays, minutes, Moon school."""

from dataclasses import dataclass
from functools import cached_property
from urllib.parse import urlencode

from django.http import HttpRequest, QueryDict

from vinter.core.errors import BadInput
from vinter.core.sky.ranking import NightFilter
from vinter.core.sky.targets import CORE, Target, shipped, target
from vinter.core.sky.thresholds import MOON_SCHOOLS, Thresholds
from vinter.web.nights.models import habits_of

KEPT = ("target", "weekday", "earliest", "latest", "minutes", "school")
SCHOOL_NAMES = dict(
    zip(MOON_SCHOOLS, ("near new Moon", "thin Moon", "Moon down while shooting"), strict=True)
)
GROUPS = (
    ("band", "The band"),
    ("arch", "The band"),
    ("cloud", "Nebulae, clouds and clusters"),
    ("moon", "Moon, planets, pole"),
    ("planet", "Moon, planets, pole"),
    ("pole", "Moon, planets, pole"),
    ("constellation", "Constellations"),
)


def hours_after_noon(text: str, label: str) -> float | None:
    """Hours from local noon to a clock time like 22:30; None when empty."""
    if not text:
        return None
    hour, _, minute = text.partition(":")
    try:
        value = int(hour) + int(minute or 0) / 60
    except ValueError as error:
        raise BadInput(f"{label}: {text!r} is not a time like 22:30") from error
    if not 0 <= value < 24:
        raise BadInput(f"{label}: {text!r} is not a time like 22:30")
    return (value - 12) % 24


@dataclass(frozen=True)
class Asked:
    """Target, thresholds and wishes of a request, and the query that keeps them in links."""

    what: Target
    limits: Thresholds
    wishes: NightFilter
    given: QueryDict

    @property
    def query(self) -> str:
        """The part of a query that keeps what was asked."""
        pairs = [(k, v) for k in KEPT for v in self.given.getlist(k) if v and (k, v) != ("target", "core")]
        return urlencode(pairs)

    @property
    def filtered(self) -> bool:
        """Whether anything but the target narrows the nights."""
        return any(self.given.get(k) for k in KEPT[1:])

    @cached_property
    def groups(self) -> list[tuple[str, list[tuple[str, str]]]]:
        """The named targets to choose from, and the one asked for when it has no name."""
        out: dict[str, list[tuple[str, str]]] = {}
        headings = dict(GROUPS)
        if self.what.key not in shipped():
            out["Your own"] = [(self.what.key, self.what.name)]
        for t in shipped().values():
            out.setdefault(headings[t.kind], []).append((t.key, t.name))
        return list(out.items())


def asked(request: HttpRequest) -> Asked:
    """Read a request's address; BadInput names what is wrong in it."""
    given = request.GET
    weekdays = tuple(sorted({int(d) for d in given.getlist("weekday") if d.isdigit()}))
    minutes = given.get("minutes") or "0"
    try:
        least = float(minutes)
    except ValueError as error:
        raise BadInput(f"fewest minutes: {minutes!r} is not a number") from error
    own = given.get("own_target", "").strip()
    what = target(own or given.get("target") or CORE.key)
    limits = habits_of(request.user).limits(
        hours_after_noon(given.get("earliest", ""), "earliest"),
        hours_after_noon(given.get("latest", ""), "latest"),
    )
    return Asked(what, limits, NightFilter(weekdays, least, given.get("school", "")), given)
