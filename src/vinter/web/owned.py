"""Everything a person owns is reached through its owner; what is someone else's does not exist. And the
address under which others reach this Vinter."""

from typing import TypeVar

from django.conf import settings
from django.contrib.auth.models import User
from django.db.models import Model
from django.http import HttpRequest
from django.shortcuts import get_object_or_404

from vinter.core.errors import BadInput

M = TypeVar("M", bound=Model)


class Needed(BadInput):
    """Something must be there first; ``page`` is the template that offers to make it, ``context`` what that
    shows."""

    page = ""

    def context(self) -> dict[str, object]:
        """What the template shows."""
        return {}


def person(request: HttpRequest) -> User:
    """Who asks: behind the sign-in, where every page but a few lies, always somebody."""
    assert isinstance(request.user, User)
    return request.user


def owned(model: type[M], request: HttpRequest, pk: int, *joined: str) -> M:
    """The user's own object, or 404; with it in one query what its fields ``joined`` point at."""
    which = model._default_manager.select_related(*joined) if joined else model
    return get_object_or_404(which, pk=pk, owner=request.user)


def outside(path: str) -> str:
    """The whole address of a path, as others reach it: by the setting, never by what a request says of
    itself."""
    return f"{settings.ADDRESS.rstrip('/')}{path}"
