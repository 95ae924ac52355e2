"""What an archive holds: which rows lie in which member of the ZIP file, and which files belong to a row.

docs/archive.md describes the same for those who read archives without Vinter.
"""

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from django.contrib.auth.models import User
from django.db.models import ForeignKey, Model, QuerySet

from vinter.core.camera.phonefile import lens_from
from vinter.core.errors import BadInput
from vinter.core.finish.export import EXPORT_KINDS
from vinter.core.finish.recipe import recipe_from
from vinter.core.frames.measure import stored_measure
from vinter.core.sky.ephemeris import check_year, year_of
from vinter.web.accounts.models import Convention
from vinter.web.field.models import FieldNote, PackMark
from vinter.web.finish.models import Export, Finish, Look
from vinter.web.gear.models import Phone
from vinter.web.nights.models import Preferences
from vinter.web.rehearse.models import Rehearsal
from vinter.web.satellites.models import Elements
from vinter.web.shots.models import Shot
from vinter.web.sites.models import Reading, ScoutPicture, Site, StrayLight
from vinter.web.stacks.drawing import drawn
from vinter.web.stacks.models import Stack
from vinter.web.takes.models import Frame, Take

FORMAT, VERSION = "vinter-archive", 1
LEFT_OUT = {"id", "owner", "binned"}  # fields of rows that an archive does not hold
IN_BIN = "in_bin"  # mark of a row that lies in the bin and is there because another names it
FRAME = "frame:"  # prefix by which a stack names the frame that its ground is from
ORIGINAL = "original"  # name of a frame's own file in the archive
STACK_FILES = (
    "stack.tif",
    "stack.mask.png",
    "stack.left-out.png",
    "before.jpg",
    "after.jpg",
    "small.jpg",
)


@dataclass(frozen=True)
class Table:
    """Rows of one model in one member. ``rows`` gives a person's; ``files`` a row's files by the name they
    have in the archive, in the folder of the row; ``check`` raises when a row's data cannot be worked
    with; ``named`` gives rows it names other than by a foreign key, as model and number."""

    model: type[Model]
    member: str
    rows: Callable[[Any], "QuerySet[Any]"]
    files: Callable[[Any], dict[str, Path]] = lambda row: {}
    check: Callable[[Any], object] = lambda row: None
    named: Callable[[Any], list[tuple[type[Any], int]]] = lambda row: []

    @property
    def folder(self) -> str:
        """Where the rows' files lie in the archive."""
        return self.member.partition(".")[0]


def rows_by_table(owner: User) -> list[tuple[Table, list[Model]]]:
    """A person's rows, table by table, parents before what came of them; with every row in the bin that one
    of them names, so that an archive holds all it refers to."""
    rows = {table.model: {row.pk: row for row in table.rows(owner)} for table in TABLES}
    waiting = [(table, row) for table in TABLES for row in rows[table.model].values()]
    while waiting:
        table, row = waiting.pop()
        for model, pk in [*_pointed_at(row), *table.named(row)]:
            if pk in rows.get(model, {pk: row}):
                continue
            hidden = model._base_manager.filter(pk=pk).first()
            if hidden is not None:
                rows[model][pk] = hidden
                waiting.append((next(t for t in TABLES if t.model is model), hidden))
    return [(table, [rows[table.model][pk] for pk in sorted(rows[table.model])]) for table in TABLES]


def _pointed_at(row: Model) -> list[tuple[type[Model], int]]:
    keys = [f for f in row._meta.concrete_fields if isinstance(f, ForeignKey) and f.name not in LEFT_OUT]
    return [(f.related_model, pk) for f in keys if (pk := getattr(row, f.attname)) is not None]


def _named_by_stack(stack: Stack) -> list[tuple[type[Model], int]]:
    ground = [int(stack.ground.removeprefix(FRAME))] if stack.ground.startswith(FRAME) else []
    return [(Stack, pk) for pk in stack.parts] + [(Frame, pk) for pk in [*stack.frames, *ground]]


def _check_shot(shot: Shot) -> None:
    check_year(shot.night.year)
    check_year(year_of(shot.moment))
    assert shot.core_mode and shot.tolerance_px and shot.steps is not None and shot.minutes >= 0
    assert shot.pose and shot.exposure and shot.plan["at"]["brightness"] is not None and shot.core_lens


def _check_frame(frame: Frame) -> None:
    assert frame.measure is None or stored_measure(frame.measure)
    assert frame.candidate


def _check_stack(stack: Stack) -> None:
    assert stack.kind in Stack.KINDS and stack.chosen
    assert stack.report is None or stack.joined or drawn(stack.report)
    assert stack.report is None or stack.report["frames_used"] >= 0


def _check_export(export: Export) -> None:
    if export.kind not in EXPORT_KINDS:
        raise BadInput(f"exports of kind {export.kind!r} are not known here")
    recipe_from(export.recipe)


def _check_site(site: Site) -> None:
    assert (
        site.core().zone and site.shown_sky() and site.warnings is not None and site.hazard_labels is not None
    )


def _frame_files(frame: Frame) -> dict[str, Path]:
    original, look, small = frame.files()
    return {f"{ORIGINAL}{original.suffix}": original, "look.jpg": look, "look.small.jpg": small}


def _check_look(look: Look) -> None:
    recipe_from(look.recipe)


TABLES = (
    Table(Site, "sites.geojson", lambda u: Site.objects.filter(owner=u), check=_check_site),
    Table(Reading, "readings.json", lambda u: Reading.objects.filter(site__owner=u, site__binned=None)),
    Table(StrayLight, "lamps.json", lambda u: StrayLight.objects.filter(site__owner=u, site__binned=None)),
    Table(
        ScoutPicture,
        "pictures.json",
        lambda u: ScoutPicture.objects.filter(site__owner=u, site__binned=None),
        lambda p: {"picture.jpg": p.site.folder / p.stored},
    ),
    Table(
        Phone,
        "phones.json",
        lambda u: Phone.objects.filter(owner=u),
        check=lambda p: [lens_from(data) for data in p.lenses.values()],
    ),
    Table(
        Preferences,
        "preferences.json",
        lambda u: Preferences.objects.filter(owner=u),
        check=lambda p: p.limits(),
    ),
    Table(Convention, "figures.json", lambda u: Convention.objects.filter(owner=u)),
    Table(Elements, "orbits.json", lambda u: Elements.objects.filter(owner=u)),
    Table(Shot, "shots.json", lambda u: Shot.objects.filter(owner=u), check=_check_shot),
    Table(PackMark, "packed.json", lambda u: PackMark.objects.filter(shot__owner=u, shot__binned=None)),
    Table(FieldNote, "notes.json", lambda u: FieldNote.objects.filter(shot__owner=u, shot__binned=None)),
    Table(
        Rehearsal,
        "rehearsals.json",
        lambda u: Rehearsal.objects.filter(owner=u).exclude(shot__binned__isnull=False),
        check=lambda r: (r.title, r.left, r.start()),
    ),
    Table(Take, "takes.json", lambda u: Take.objects.filter(owner=u)),
    Table(
        Frame,
        "frames.json",
        lambda u: Frame.objects.filter(take__owner=u, take__binned=None).select_related("take"),
        _frame_files,
        _check_frame,
    ),
    Table(
        Stack,
        "stacks.json",
        lambda u: Stack.objects.filter(owner=u),
        lambda s: (
            {n: s.folder / n for n in STACK_FILES} | {"painted.png": s.own_mask, "join.png": s.own_join}
        ),
        _check_stack,
        _named_by_stack,
    ),
    Table(Finish, "finishes.json", lambda u: Finish.objects.filter(owner=u), check=lambda f: f.core()),
    Table(Look, "looks.json", lambda u: Look.objects.filter(owner=u), check=_check_look),
    Table(
        Export,
        "exports.json",
        lambda u: Export.objects.filter(owner=u),
        lambda e: {f"picture{e.suffix}": e.path, "small.jpg": e.small},
        _check_export,
    ),
)
