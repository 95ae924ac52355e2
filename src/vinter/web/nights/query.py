"""What the address of a planning page asks for: target, hours, weekdays, minutes, Moon school."""

from dataclasses import dataclass
from functools import cached_property
from urllib.parse import urlencode

from django.http import HttpRequest, QueryDict

from vinter.core.sky.ranking import NightFilter
from vinter.core.sky.targets import Target, shipped
from vinter.core.sky.thresholds import Thresholds
from vinter.web.forms import checked
from vinter.web.nights.forms import FilterForm
from vinter.web.nights.models import preferences_of
from vinter.web.owned import person

IN_LINKS = ("target", "weekday", "earliest", "latest", "minutes", "school")
GROUPS = (
    ("band", "The band"),
    ("arch", "The band"),
    ("cloud", "Nebulae, clouds and clusters"),
    ("moon", "Moon, planets, pole"),
    ("planet", "Moon, planets, pole"),
    ("pole", "Moon, planets, pole"),
    ("constellation", "Constellations"),
)


@dataclass(frozen=True)
class PlanQuery:
    """Target, thresholds and filter of a request, and the query that keeps them in links."""

    what: Target
    limits: Thresholds
    night_filter: NightFilter
    given: QueryDict

    @property
    def query(self) -> str:
        """The part of a query that keeps what the address asks for."""
        pairs = [
            (k, v) for k in IN_LINKS for v in self.given.getlist(k) if v and (k, v) != ("target", "core")
        ]
        return urlencode(pairs)

    @property
    def filtered(self) -> bool:
        """Whether anything but the target narrows the nights."""
        return any(self.given.get(k) for k in IN_LINKS[1:])

    @cached_property
    def groups(self) -> list[tuple[str, list[tuple[str, str]]]]:
        """The named targets to choose from, and the one in the address when it has no name."""
        out: dict[str, list[tuple[str, str]]] = {}
        headings = dict(GROUPS)
        if self.what.key not in shipped():
            out["Your own"] = [(self.what.key, self.what.name)]
        for t in shipped().values():
            out.setdefault(headings[t.kind], []).append((t.key, t.name))
        return list(out.items())


def plan_query(request: HttpRequest) -> PlanQuery:
    """Read a request's address; BadInput names what is wrong in it."""
    data = checked(FilterForm(request.GET)).cleaned_data
    limits = preferences_of(person(request)).limits(data["earliest"], data["latest"])
    night_filter = NightFilter(tuple(sorted(set(data["weekday"]))), data["minutes"] or 0.0, data["school"])
    return PlanQuery(data["own_target"] or data["target"], limits, night_filter, request.GET)
