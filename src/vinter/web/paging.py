"""Long lists: searched by words, sorted by a column, a page at a time; newest first unless asked."""

import operator
from collections.abc import Mapping, Sequence
from functools import reduce
from typing import TypeVar, overload

from django.core.paginator import Page, Paginator
from django.db.models import Model, Q, QuerySet
from django.http import HttpRequest

V = TypeVar("V")
R = TypeVar("R", bound=Model)


SIZE = 24  # rows on a page
MOST_WORDS = 8  # words of a search


@overload
def page_of(request: HttpRequest, rows: "QuerySet[R]", size: int = SIZE) -> "Page[R]": ...


@overload
def page_of(request: HttpRequest, rows: list[V], size: int = SIZE) -> "Page[V]": ...


def page_of(request: HttpRequest, rows: "QuerySet[R] | list[V]", size: int = SIZE) -> "Page[R] | Page[V]":
    """The page of rows that the address asks for (``page``, from 1); the nearest one where there is none
    such."""
    wanted = request.GET.get("page")
    if isinstance(rows, list):
        return Paginator(rows, size).get_page(wanted)
    return Paginator(rows, size).get_page(wanted)


def searched(request: HttpRequest, rows: "QuerySet[R]", fields: Sequence[str], day: str) -> "QuerySet[R]":
    """Rows in which every word of the address's search (``q``) stands in one of the text fields, or, four
    digits long, is the year of the field ``day``."""
    for word in request.GET.get("q", "").split()[:MOST_WORDS]:
        found = reduce(operator.or_, (Q(**{f"{field}__icontains": word}) for field in fields))
        if len(word) == 4 and word.isascii() and word.isdigit():
            found |= Q(**{f"{day}__year": int(word)})
        rows = rows.filter(found)
    return rows


def sorted_by(request: HttpRequest, rows: "QuerySet[R]", columns: Mapping[str, str]) -> "QuerySet[R]":
    """Rows in the order that the address asks for (``sort``: the name of a column, with a minus before it
    from the last to the first); as they were where it asks for none that there is."""
    wanted = request.GET.get("sort", "")
    field = columns.get(wanted.removeprefix("-"))
    if field is None:
        return rows
    back = "-" if wanted.startswith("-") else ""
    return rows.order_by(f"{back}{field}", f"{back or '-'}pk")
