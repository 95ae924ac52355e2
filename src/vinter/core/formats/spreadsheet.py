"""CSV as spreadsheets open it: text that a spreadsheet would take for a formula stays text."""

import csv
import io
from collections.abc import Iterable, Sequence

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
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(columns)
    writer.writerows([guarded(cell) for cell in row] for row in rows)
    return out.getvalue()
