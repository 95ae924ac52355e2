"""Headers that keep pages to this machine, and plain pages for errors a person can correct."""

import errno
from collections.abc import Callable

from django.db import OperationalError
from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from vinter.core.errors import BadInput

POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' blob: data:; font-src 'self'; "
    "connect-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'; manifest-src 'self'"
)
Respond = Callable[[HttpRequest], HttpResponse]


class SecurityHeaders:
    """Adds the content security policy; nothing inline, nothing from elsewhere."""

    def __init__(self, get_response: Respond) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        """The response with the headers it lacks."""
        response = self.get_response(request)
        response.headers.setdefault("Content-Security-Policy", POLICY)
        response.headers.setdefault("Permissions-Policy", "camera=(), microphone=(), geolocation=()")
        return response


DISK_FULL = "the disk is full: what was there is kept, this was not stored; free some space and try again"


def disk_full(error: BaseException) -> bool:
    """Whether something failed because no space is left, as files or the database say it."""
    if isinstance(error, OSError) and error.errno in (errno.ENOSPC, errno.EDQUOT):
        return True
    return isinstance(error, OperationalError) and "full" in str(error)


class PlainErrors:
    """Turns BadInput raised by the core, and a full disk, into a page (or a line, for scripts) that says what
    was wrong."""

    def __init__(self, get_response: Respond) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        """The response as it is."""
        return self.get_response(request)

    def process_exception(self, request: HttpRequest, error: Exception) -> HttpResponse | None:
        """A 400 with the sentence of a BadInput, a 507 for a full disk; other errors pass on."""
        if isinstance(error, BadInput):
            message, status = str(error), 400
        elif disk_full(error):
            message, status = DISK_FULL, 507
        else:
            return None
        if request.headers.get("Accept", "").startswith("text/html"):
            return render(request, "wrong.html", {"message": message}, status=status)
        return HttpResponse(message, status=status, content_type="text/plain; charset=utf-8")
