"""Headers that keep pages to this machine, and plain pages for errors a person can correct."""

import logging
import sys
from collections.abc import Callable
from ipaddress import IPv4Address, IPv6Address, ip_address

from django.conf import settings
from django.db import OperationalError
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render
from django.template.loader import render_to_string

from vinter.core.errors import BadInput
from vinter.core.formats.whole import DISK_FULL, check_room, no_room
from vinter.web.owned import Needed

POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' blob: data:; font-src 'self'; "
    "connect-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'; manifest-src 'self'"
)
Respond = Callable[[HttpRequest], HttpResponse]


class TrustedProxies:
    """Behind a proxy that is believed (``settings.PROXIES``), a request's address is the one that the proxy
    says it came from; what others say of themselves is not believed."""

    def __init__(self, get_response: Respond) -> None:
        self.get_response = get_response
        self._warned = False

    def __call__(self, request: HttpRequest) -> HttpResponse:
        """The response, to a request that knows where it came from."""
        way = [*request.headers.get("X-Forwarded-For", "").split(","), request.META.get("REMOTE_ADDR", "")]
        hops = [hop for text in way if (hop := _address(text)) is not None]
        while len(hops) > 1 and any(hops[-1] in proxy for proxy in settings.PROXIES):
            hops.pop()
        if hops:
            request.META["REMOTE_ADDR"] = str(hops[-1])
        if settings.HTTPS and len(way) == 2 and not way[0] and not self._warned:
            self._warned = True
            logging.getLogger("vinter").warning(
                "requests come without X-Forwarded-For: the wrong passwords of strangers count for all; "
                "let the proxy send it (docs/operating.md)"
            )
        return self.get_response(request)


def _address(text: str) -> IPv4Address | IPv6Address | None:
    try:
        return ip_address(text.strip())
    except ValueError:
        return None


class SecurityHeaders:
    """Adds the content security policy; nothing inline, nothing from elsewhere."""

    def __init__(self, get_response: Respond) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        """The response with the headers it lacks."""
        response = self.get_response(request)
        response.headers.setdefault("Content-Security-Policy", POLICY)
        response.headers.setdefault("Permissions-Policy", "camera=(), microphone=(), geolocation=(self)")
        if settings.HTTPS:  # the proxy speaks it to people, and plain http to this process
            response.headers.setdefault("Strict-Transport-Security", f"max-age={HSTS_SECONDS}")
        return response


HSTS_SECONDS = 365 * 86400  # s for which browsers come back over HTTPS only
BIG_BODY = 2**20  # bytes of a request that are spilled to the disk before a view sees it


def disk_full(error: BaseException | None) -> bool:
    """Whether something failed because no space is left, as files or the database say it."""
    if error is None:
        return False
    return no_room(error) or (isinstance(error, OperationalError) and "full" in str(error))


def field_base(path: str) -> str:
    """The page that others extend: red on black in the field, where nothing may be white; else empty."""
    return "field/base.html" if path.startswith("/field/") else ""


def _plainly(request: HttpRequest, message: str, status: int) -> HttpResponse:
    if request.headers.get("Accept", "").startswith("text/html"):
        context = {"message": message, "field_base": field_base(request.path)}
        return render(request, "wrong.html", context, status=status)
    return HttpResponse(message, status=status, content_type="text/plain; charset=utf-8")


def server_error(request: HttpRequest) -> HttpResponse:
    """What is left of an error that nothing caught: a full disk is said plainly, wherever it struck; else an
    apology."""
    if disk_full(sys.exc_info()[1]):
        return HttpResponse(DISK_FULL, status=507, content_type="text/plain; charset=utf-8")
    try:
        return HttpResponse(render_to_string("500.html"), status=500)
    except Exception:  # the apology must not fail too
        return HttpResponse("something went wrong inside Vinter", status=500, content_type="text/plain")


class PlainErrors:
    """Turns BadInput raised by the core, and a full disk, into a page (or a line, for scripts) that says what
    was wrong."""

    def __init__(self, get_response: Respond) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        """The response as it is; 507 before a large body is taken in where there is no room for it."""
        try:
            size = int(request.META.get("CONTENT_LENGTH") or 0)
            if size > BIG_BODY:
                check_room(settings.HOME, size)
        except ValueError:
            pass
        except OSError:
            return _plainly(request, DISK_FULL, 507)
        return self.get_response(request)

    def process_exception(self, request: HttpRequest, error: Exception) -> HttpResponse | None:
        """A 400 with the sentence of a BadInput, a 507 for a full disk; other errors pass on."""
        if isinstance(error, Needed) and request.method == "GET":
            return render(request, error.page, {**error.context(), "back": request.get_full_path()})
        if isinstance(error, BadInput):
            return _plainly(request, str(error), 400)
        if disk_full(error):
            return _plainly(request, DISK_FULL, 507)
        return None
