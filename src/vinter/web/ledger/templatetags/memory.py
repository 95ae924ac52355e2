"""What the last night at a site teaches, where the next one is planned."""

from datetime import date

from django import template

from vinter.web.ledger.records import last_time
from vinter.web.sites.models import Site

register = template.Library()


@register.inclusion_tag("ledger/last_time.html")
def last_time_here(site: Site | None, before: date | None = None, red: bool = False) -> dict[str, object]:
    """A few lines, or nothing; ``red`` for pages that are read in the dark."""
    return {"last": last_time(site, before) if site is not None and site.pk else None, "red": red}
