"""Pages as the person who asked for them likes figures written."""

from collections.abc import Callable
from typing import cast

from django.http import HttpRequest, HttpResponse
from django.utils.functional import SimpleLazyObject

from vinter.web.accounts.models import conventions_of
from vinter.web.conventions import Conventions, current, rewritten


class OwnConventions:
    """Names of days while a page is made, clocks and units when it is done."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        """The page, rewritten where the person wishes something else than what is computed."""
        wished = cast(Conventions, SimpleLazyObject(lambda: conventions_of(request.user)))
        token = current.set(wished)
        try:
            response = self.get_response(request)
        finally:
            current.reset(token)
        page = response.headers.get("Content-Type", "").startswith("text/html")
        if page and not response.streaming and response.content and not wished.as_computed:
            response.content = rewritten(response.content.decode(), wished).encode()
        return response
