"""What the head of the next page tells once: what was just put into the bin, which lines of a file were
refused."""

from typing import Any

from django.http import HttpRequest

from vinter.web.bin.models import BinEntry
from vinter.web.forms import row_number
from vinter.web.uploads import REFUSED


def notices(request: HttpRequest) -> dict[str, object]:
    """The bin's entry that the address names, when it is the user's; and refused lines, once."""
    if not getattr(request, "user", None) or not request.user.is_authenticated:
        return {}
    found: dict[str, Any] = {}
    if request.method == "GET" and REFUSED in request.session and not request.headers.get("HX-Request"):
        found["refused"] = request.session.pop(REFUSED)
    wanted = row_number(request.GET.get("binned", ""))
    if wanted is not None:
        found["just_binned"] = BinEntry.objects.filter(owner=request.user, pk=wanted).first()
    return found
