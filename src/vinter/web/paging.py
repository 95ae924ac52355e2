"""Long lists, a page at a time, newest first."""

from typing import Any

from django.core.paginator import Page, Paginator
from django.http import HttpRequest

SIZE = 24  # rows on a page


def page_of(request: HttpRequest, rows: Any, size: int = SIZE) -> "Page[Any]":
    """The page of rows that the address asks for (``page``, from 1); the nearest one where there is none
    such."""
    return Paginator(rows, size).get_page(request.GET.get("page"))
