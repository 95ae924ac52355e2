"""Pages as the person who asked for them likes figures written."""

from collections.abc import Callable
from typing import cast

from django.http import HttpRequest, HttpResponse
from django.utils.functional import SimpleLazyObject

from vinter.web.accounts.models import conventions_of
from vinter.web.conventions import Conventions, current


class OwnConventions:
    """How the person likes figures written, while a page is made."""

    def __init__(self, get_response: Callable[[HttpRequest], HttpResponse]) -> None:
        self.get_response = get_response

    def __call__(self, request: HttpRequest) -> HttpResponse:
        """The page, its figures written as the person wishes."""
        wished = cast(Conventions, SimpleLazyObject(lambda: conventions_of(request.user)))
        token = current.set(wished)
        try:
            return self.get_response(request)
        finally:
            current.reset(token)
