"""An archive back into an account: all of it or nothing.

Its lists are parsed in a limited child; rows are stored hidden, in short transactions, and shown at once when
all are in.
"""

import secrets
import shutil
import tempfile
import zipfile
import zlib
from collections import Counter
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any, cast

from django.conf import settings
from django.contrib.auth.models import User
from django.core.exceptions import ValidationError
from django.db import models, transaction

from vinter.core.errors import BadInput
from vinter.core.formats.whole import check_room
from vinter.core.frames.content import FILMS, FRAMES
from vinter.core.stack.options import OPTIONS
from vinter.core.versions import Data
from vinter.web.accounts.models import Convention
from vinter.web.archive.format import FORMAT, FRAME, IN_BIN, LEFT_OUT, TABLES, VERSION, Table
from vinter.web.archive.parsing import json_of, parsed, rows_of
from vinter.web.archive.underway import Batches, Underway, alone, undo
from vinter.web.bin.models import BinEntry, Binnable
from vinter.web.fields import VersionedJSONField
from vinter.web.gear.models import Phone
from vinter.web.nights.models import Preferences
from vinter.web.quota import check_quota
from vinter.web.shots.models import Shot
from vinter.web.sites.models import Reading, ScoutPicture, Site
from vinter.web.stacks.models import Stack
from vinter.web.takes.models import Frame, Take

if TYPE_CHECKING:
    ModelField = models.Field[object, object]
else:
    ModelField = models.Field

LARGEST_ABOUT = 2**16  # bytes of archive.json, which is read while its sender waits
SUFFIXES = FRAMES | FILMS


def about(source: Path) -> Data:
    """What an archive says of itself: name, when, with originals or not. BadInput when it is none."""
    try:
        with zipfile.ZipFile(source) as archive:
            found = json_of(archive, "archive.json", source.name, LARGEST_ABOUT)
    except (OSError, zipfile.BadZipFile) as error:
        raise BadInput(f"{source.name}: not an archive of Vinter ({error})") from error
    if not isinstance(found, dict) or found.get("format") != FORMAT:
        raise BadInput(f"{source.name}: not an archive of Vinter")
    if found.get("version") != VERSION:
        raise BadInput(f"{source.name}: version {found.get('version')!r} of the format is not known here")
    if not isinstance(found.get("name"), str) or not found["name"]:
        raise BadInput(f"{source.name}: archive.json does not say whose it is")
    return found


class Importing:
    """One import: which new rows the old ids became, and what it created on the disk."""

    def __init__(
        self, archive: zipfile.ZipFile, file: str, owner: User, staging: Path, underway: Underway
    ) -> None:
        self.archive, self.file, self.owner, self.staging = archive, file, owner, staging
        self.underway = underway
        self.staged: dict[str, Path] = {}
        self.new: dict[type[models.Model], dict[int, models.Model]] = {}
        self.written: list[Path] = []
        self.counts: Counter[str] = Counter()
        self.entry: BinEntry | None = None

    def stage(self, progress: Callable[[str, float], None]) -> None:
        """Unpack the rows' files beside where they will lie, before any row is written: the database is held
        for moments only."""
        folders = {table.folder for table in TABLES}
        wanted = [n for n in self.archive.namelist() if n.partition("/")[0] in folders and n.count("/") == 2]
        for i, member in enumerate(wanted):
            progress("unpacking", 0.9 * i / len(wanted))
            target = self.staging / f"{i}"
            with self.archive.open(member) as read, target.open("wb") as write:
                shutil.copyfileobj(read, write)
            self.staged[member] = target

    def table(self, table: Table, batches: Batches) -> None:
        """Bring in one table with its files."""
        made = self.new.setdefault(table.model, {})
        for data in rows_of(self.staging, table.member):
            batches.step()
            where = f"{self.file}: {table.member}, row {data['id']}"
            try:
                row, is_new = self._row(table, _TODAY.get(table.model, dict)(data))
                if is_new:
                    self.underway.made(row)
                    self._files(table, data["id"], row)
                    table.check(row)
            except BadInput as error:
                raise BadInput(f"{where}: {error}") from error
            except ValidationError as error:
                raise BadInput(f"{where}: {'; '.join(error.messages)}") from error
            except OSError:
                raise
            except Exception as error:  # whatever the data break, they are not ours to trust
                raise BadInput(f"{where}: cannot be worked with ({type(error).__name__}: {error})") from error
            made[data["id"]] = row
            self.counts[table.folder] += is_new

    def _row(self, table: Table, data: Data) -> tuple[models.Model, bool]:
        model = table.model
        row = model(**{f.attname: self._value(f, data.get(f.name)) for f in _given(model) if f.name in data})
        if any(f.name == "owner" for f in model._meta.concrete_fields):
            row.owner = self.owner  # type: ignore[attr-defined]
        if isinstance(row, Binnable):
            row.binned = self._entry() if data.get(IN_BIN) else self.underway.hidden
        adapt = _ADAPT.get(model)
        there = adapt(row, self) if adapt else None
        if there is not None:
            return there, False
        with transaction.atomic():
            row.save(force_insert=True)
        stamps = {f.attname: self._value(f, data[f.name]) for f in _stamped(model) if data.get(f.name)}
        if stamps:
            model._base_manager.filter(pk=row.pk).update(**stamps)
        return model._base_manager.get(pk=row.pk), True

    def _entry(self) -> BinEntry:
        """Where rows lie that were in the bin when the archive was made."""
        if self.entry is None:
            self.entry = self.underway.entry(self.owner, "In the bin when archived")
        return self.entry

    def _value(self, field: ModelField, value: object) -> object:
        """A field's value of what the archive says; rows it points to are the new ones."""
        if isinstance(field, models.ForeignKey):
            if value is None:
                return None
            target = self.new.get(field.related_model, {}).get(cast(int, value))
            if target is None:
                raise BadInput(f"{field.name} {value!r} is not in the archive")
            return target.pk
        if value is None:
            if not field.null:
                raise BadInput(f"{field.name} is missing")
            return None
        if isinstance(field, VersionedJSONField):
            return field.today(value)
        found = field.to_python(value)
        field.run_validators(found)
        return found

    def _files(self, table: Table, old: int, row: models.Model) -> None:
        """A row's files to where they belong."""
        for name, target in table.files(row).items():
            member = f"{table.folder}/{old}/{name}"
            if member in self.staged:
                target.parent.mkdir(parents=True, exist_ok=True)
                self.written.append(target)
                self.staged[member].replace(target)

    def undo(self) -> None:
        """Remove the files that were written."""
        for path in self.written:
            path.unlink(missing_ok=True)


def _given(model: type[models.Model]) -> list[ModelField]:
    return [f for f in model._meta.concrete_fields if f.name not in LEFT_OUT]


def _stamped(model: type[models.Model]) -> list[ModelField]:
    """Fields that storing sets to now."""
    return [f for f in _given(model) if getattr(f, "auto_now_add", False) or getattr(f, "auto_now", False)]


def _phone(row: Phone, importing: Importing) -> Phone | None:
    """The same phone when it is there already; another of the same key gets one of its own."""
    for there in Phone.objects.filter(owner=importing.owner, key=row.key):
        if there.lenses == row.lenses and there.name == row.name:
            return there
        row.key = f"{row.key[:30]}-{secrets.token_hex(3)}"
    return None


def _site(row: Site, importing: Importing) -> None:
    """There is one home."""
    row.home = row.home and not Site.objects.filter(owner=importing.owner, home=True).exists()


def _preferences(row: Preferences, importing: Importing) -> Preferences | None:
    """What a person has set here stays."""
    return Preferences.objects.filter(owner=importing.owner).first()


def _convention(row: Convention, importing: Importing) -> Convention | None:
    """Units and formats here stays."""
    return Convention.objects.filter(owner=importing.owner).first()


def _frame(row: Frame, importing: Importing) -> None:
    """Stored under a new name of a known kind."""
    suffix = Path(row.stored).suffix.lower()
    if suffix not in SUFFIXES:
        raise BadInput(f"{row.name}: files of type {suffix or 'none'} are not read")
    row.stored = f"{secrets.token_hex(8)}{suffix}"


def _reading(row: Reading, importing: Importing) -> None:
    """What was measured in a stack stays; stacked again, that stack measures anew."""
    row.stack = None


def _picture(row: ScoutPicture, importing: Importing) -> None:
    row.stored = f"{secrets.token_hex(8)}.jpg"


def _stack_of_today(data: Data) -> Data:
    """A stack's row as it is written today: its options were fields of their own, joined or lucky a
    method."""
    if "options" in data:
        return data
    options = {name: data[name] for name in OPTIONS if name in data}
    kind = {"kind": options.pop("method")} if options.get("method") in (Stack.JOIN, Stack.LUCKY) else {}
    return data | kind | {"options": options}


def _renamed(**names: str) -> Callable[[Data], Data]:
    """What gives a row its fields by today's names, for archives that were written before."""
    return lambda data: {names.get(key, key): value for key, value in data.items()}


_TODAY: dict[Any, Callable[[dict[str, Any]], dict[str, Any]]] = {
    Stack: _stack_of_today,
    Shot: _renamed(own="manual_settings", said="forecast_chance"),
    Take: _renamed(told="simulation_overrides"),
}


def _stack(row: Stack, importing: Importing) -> None:
    """Its frames are the new ones, and so are the stacks it was joined of."""
    stacks = importing.new.get(Stack, {})
    row.parts = [stacks[old].pk for old in row.parts if old in stacks]
    frames = importing.new.get(Frame, {})
    row.frames = [frames[old].pk for old in row.frames if old in frames]
    if row.ground.startswith(FRAME):
        frame = frames.get(int(row.ground.removeprefix(FRAME)))
        row.ground = f"{FRAME}{frame.pk}" if frame else "auto"


_ADAPT: dict[Any, Callable[[Any, Importing], Any]] = {
    Phone: _phone,
    Site: _site,
    Preferences: _preferences,
    Convention: _convention,
    Frame: _frame,
    ScoutPicture: _picture,
    Reading: _reading,
    Stack: _stack,
}


def read_archive(
    source: Path,
    owner: User,
    progress: Callable[[str, float], None] = lambda label, share: None,
    done: Callable[[dict[str, int]], object] = lambda counts: None,
) -> dict[str, int]:
    """Bring an archive into an account, beside what is there; how many rows of each kind came, which ``done``
    hears while the rows are stored with what it stores. BadInput names what is wrong, and then nothing was
    changed; OSError (ENOSPC) when there is no room."""
    about(source)
    folder = Path(settings.MEDIA_ROOT) / str(owner.pk) / "archives"
    with alone(folder), zipfile.ZipFile(source) as archive:
        size = sum(m.file_size for m in archive.infolist())
        check_quota(owner.pk, size)
        check_room(folder, size)
        with tempfile.TemporaryDirectory(dir=folder) as staging:
            parsed(source, Path(staging), [table.member for table in TABLES])
            underway = Underway(owner, folder)
            importing = Importing(archive, source.name, owner, Path(staging), underway)
            try:
                importing.stage(progress)
                with underway.batches() as batches:
                    for table in TABLES:
                        importing.table(table, batches)
                with transaction.atomic():
                    underway.show()
                    done(dict(importing.counts))
                underway.over()
            except (zipfile.BadZipFile, zlib.error, EOFError, NotImplementedError) as error:
                importing.undo()
                undo(folder)
                raise BadInput(f"{source.name}: damaged ({error}); nothing was changed") from error
            except BaseException:
                importing.undo()
                undo(folder)
                raise
    return dict(importing.counts)
