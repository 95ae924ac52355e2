"""Everything a person owns into one ZIP file."""

import json
import zipfile
from collections.abc import Callable
from datetime import UTC, date, datetime, time
from pathlib import Path

from django.contrib.auth.models import User
from django.db.models import Model

from vinter import __version__
from vinter.core.finite import finite
from vinter.core.formats.spreadsheet import csv_text
from vinter.core.formats.whole import check_room, whole
from vinter.core.versions import Data
from vinter.web.archive.format import FORMAT, IN_BIN, LEFT_OUT, ORIGINAL, VERSION, Table, rows_by_table
from vinter.web.ledger.rows import COLUMNS, ledger_rows

README = """This is everything one person kept in Vinter, in open formats.

archive.json      who, when, which version of this format
sites.geojson     places; every other .json file is a list of rows, each with its id
ledger.csv/.json  what was planned and what came of it, a row a take
NAME/ID/...       the files of row ID of NAME.json: frames as they were taken, pictures of them, stacks
                  (32-bit float linear TIFF, mask beside it as PNG), exports

Rows point to each other by id: a shot has its site and phone, a take its shot, a frame and a stack their
take, a finish its stack, an export its finish. Times are UTC, angles degrees, lengths metres unless the name
says otherwise, sky brightness in mag/arcsec^2.
"""


def row_data(row: Model) -> Data:
    """A row as plain data; it points to others by their ids."""
    fields = {f.name: f.value_from_object(row) for f in row._meta.concrete_fields if f.name not in LEFT_OUT}
    in_bin = {IN_BIN: True} if getattr(row, "binned_id", None) else {}
    return {"id": row.pk, **in_bin, **finite(fields)}


def _geojson(rows: list[Data]) -> Data:
    """Sites as points; everything else that is known of them as properties."""
    features = [
        {
            "type": "Feature",
            "id": row["id"],
            "geometry": {"type": "Point", "coordinates": [row["lon"], row["lat"], row["elevation"]]},
            "properties": {k: v for k, v in row.items() if k not in ("lat", "lon", "elevation")},
        }
        for row in rows
    ]
    return {"type": "FeatureCollection", "features": features}


def _plain(value: object) -> str:
    """Days and times as ISO 8601, to the microsecond."""
    if isinstance(value, date | time):
        return value.isoformat()
    raise TypeError(f"{value!r} has no form in JSON")


def plain_text(data: object) -> str:
    """Data as JSON; days and times as ISO 8601."""
    return json.dumps(data, default=_plain, ensure_ascii=False, allow_nan=False, indent=1)


def _files(tables: list[tuple[Table, list[Model]]], originals: bool) -> list[tuple[str, Path]]:
    """Name in the archive and place on the disk of every file that goes in."""
    return [
        (f"{table.folder}/{row.pk}/{name}", path)
        for table, rows in tables
        for row in rows
        for name, path in table.files(row).items()
        if path.is_file() and (originals or not name.startswith(ORIGINAL))
    ]


def write_archive(
    owner: User,
    out: Path,
    originals: bool = True,
    progress: Callable[[str, float], None] = lambda label, share: None,
) -> int:
    """Write a person's archive, with the frames as they were taken or without; there whole or not at all.
    Returns how many files it holds; OSError (ENOSPC) before anything is written when there is no room."""
    tables = rows_by_table(owner)
    files = _files(tables, originals)
    check_room(out.parent, sum(path.stat().st_size for _, path in files))
    with whole(out) as draft, zipfile.ZipFile(draft, "w", zipfile.ZIP_STORED, allowZip64=True) as archive:

        def add(name: str, text: str) -> None:
            archive.writestr(name, text, zipfile.ZIP_DEFLATED)

        add("README.txt", README)
        made = datetime.now(UTC).isoformat(timespec="seconds")
        about = {"format": FORMAT, "version": VERSION, "vinter": __version__, "made": made}
        add("archive.json", plain_text({**about, "name": owner.get_username(), "originals": originals}))
        for table, rows in tables:
            data = [row_data(row) for row in rows]
            add(table.member, plain_text(_geojson(data) if table.member.endswith(".geojson") else data))
        ledger = list(ledger_rows(owner))
        add("ledger.csv", csv_text(COLUMNS, ([row[c] for c in COLUMNS] for row in ledger)))
        add("ledger.json", plain_text(finite(ledger)))
        for i, (name, path) in enumerate(files):
            progress(f"file {i + 1} of {len(files)}", i / len(files))
            archive.write(path, name)
        return len(archive.namelist())
