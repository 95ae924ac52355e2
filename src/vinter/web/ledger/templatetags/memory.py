"""What the last night at a site teaches, where the next one is planned."""

from typing import Any

from django import template

from vinter.web.ledger.records import last_time

register = template.Library()


@register.inclusion_tag("ledger/last_time.html")
def last_time_here(site: Any, before: Any = None, red: bool = False) -> dict[str, Any]:
    """A few lines, or nothing; ``red`` for pages that are read in the dark."""
    return {"last": last_time(site, before) if site is not None and site.pk else None, "red": red}
