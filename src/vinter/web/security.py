"""Headers that keep pages to this machine, and plain pages for errors a person can correct."""

from collections.abc import Callable

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


class PlainErrors:
    """Turns BadInput raised by the core into a page (or a line, for scripts) that says what was wrong."""

    def __init__(self, get_response: Respond) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        """The response as it is."""
        return self.get_response(request)

    def process_exception(self, request: HttpRequest, error: Exception) -> HttpResponse | None:
        """A 400 with the sentence of a BadInput; other errors pass on."""
        if not isinstance(error, BadInput):
            return None
        if request.headers.get("Accept", "").startswith("text/html"):
            return render(request, "wrong.html", {"message": str(error)}, status=400)
        return HttpResponse(str(error), status=400, content_type="text/plain; charset=utf-8")
