"""What was just put into the bin, for the notice at the head of the next page."""

from typing import Any

from django.http import HttpRequest

from vinter.web.bin.models import BinEntry
from vinter.web.forms import row_number


def just_binned(request: HttpRequest) -> dict[str, Any]:
    """The entry the address names, when it is the user's."""
    wanted = row_number(request.GET.get("binned", ""))
    if wanted is None or not getattr(request, "user", None) or not request.user.is_authenticated:
        return {}
    return {"just_binned": BinEntry.objects.filter(owner=request.user, pk=wanted).first()}
