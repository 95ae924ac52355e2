"""CSV as spreadsheets open it: text that a spreadsheet would take for a formula stays text."""

import csv
import io
import itertools
from collections.abc import Iterable, Iterator, Sequence

FORMULA_STARTS = ("=", "+", "-", "@", "\t", "\r")
GUARD = "'"


def guarded(value: object) -> object:
    """A cell as it is written: text that begins like a formula gets an apostrophe before it; numbers and
    other text stay."""
    return f"{GUARD}{value}" if isinstance(value, str) and value.startswith(FORMULA_STARTS) else value


def unguarded(text: str) -> str:
    """A cell as it was before ``guarded``."""
    return text[1:] if text.startswith(GUARD) and text[1:].startswith(FORMULA_STARTS) else text


def csv_text(columns: Sequence[str], rows: Iterable[Sequence[object]]) -> str:
    """A table as CSV, its first line the columns' names."""
    return "".join(csv_lines(columns, rows))


def csv_lines(columns: Sequence[str], rows: Iterable[Sequence[object]]) -> Iterator[str]:
    """The lines of a table as CSV, one after the other: first the columns' names."""
    out = io.StringIO()
    writer = csv.writer(out)
    for row in itertools.chain([columns], rows):
        writer.writerow([guarded(cell) for cell in row])
        yield out.getvalue()
        out.seek(0)
        out.truncate()
