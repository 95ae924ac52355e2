"""Stacks joined into one picture: choosing them, and the job."""

import shutil
from collections.abc import Mapping

import numpy as np
from django import forms
from django.contrib.auth.models import User
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect
from django.views.decorators.http import require_POST

import vinter
from vinter.core.camera.projection import LAYOUTS
from vinter.core.errors import BadInput
from vinter.core.formats.pictures import write_jpeg
from vinter.core.frames.preview import gain_for, stretched, thumbnail
from vinter.core.stack.file import keep_solved, read_stack
from vinter.core.stack.joining.drawing import FEWEST, MOST
from vinter.core.stack.report import joined_report
from vinter.web.forms import checked
from vinter.web.jobs.models import enqueue
from vinter.web.jobs.registry import JobContext
from vinter.web.owned import person
from vinter.web.quota import check_quota
from vinter.web.stacks.join_work import join_files
from vinter.web.stacks.models import Stack
from vinter.web.stacks.plate import field_time
from vinter.web.stacks.working import working_copy

LAYOUT_CHOICES = [("auto", "by its width"), *((name, name) for name in LAYOUTS)]


class JoinForm(forms.Form):
    """Which stacks, and how the picture is laid out."""

    parts = forms.TypedMultipleChoiceField(label="Stacks", coerce=int)
    layout = forms.ChoiceField(label="Laid out", choices=LAYOUT_CHOICES, required=False, initial="auto")

    def __init__(self, stacks: list[Stack], data: Mapping[str, str] | None = None) -> None:
        super().__init__(data)
        parts = self.fields["parts"]
        assert isinstance(parts, forms.TypedMultipleChoiceField)
        parts.choices = [(one.pk, str(one)) for one in stacks]


def joinable(user: User) -> list[Stack]:
    """Stacks of a person whose field is known, from which others can be joined."""
    own = Stack.objects.filter(owner=user, report__field__centre__isnull=False).exclude(kind=Stack.JOIN)
    return list(own.select_related("take__shot__site", "take__own_site").defer("report"))


@require_POST
def new(request: HttpRequest) -> HttpResponse:
    """Join stacks into one picture."""
    wanted = checked(JoinForm(joinable(person(request)), request.POST)).cleaned_data
    parts = list(Stack.objects.filter(pk__in=wanted["parts"], owner=person(request)).order_by("pk"))
    _check(parts)
    check_quota(parts[0].owner_id)
    one = Stack.objects.create(
        owner=person(request),
        take=parts[0].take,
        kind=Stack.JOIN,
        parts=[p.pk for p in parts],
        layout=wanted["layout"] or "auto",
        frames=sorted({pk for p in parts for pk in p.frames}),
        version=vinter.__version__,
    )
    enqueue(person(request), "join", one.pk)
    return redirect("stack", one.pk)


def _check(parts: list[Stack]) -> None:
    """BadInput when these cannot be joined."""
    if not FEWEST <= len(parts) <= MOST:
        raise BadInput(f"{FEWEST} to {MOST} stacks can be joined; {len(parts)} are chosen")
    sites = {p.take.site.pk for p in parts if p.take.site}
    if len(sites) > 1:
        raise BadInput("these stacks were shot at different sites; a picture is joined of one")


def run_join(pk: int, context: JobContext) -> None:
    """Join the stacks a row names; writes the picture, its mask, previews and the working copy."""
    one = Stack.objects.select_related("take__shot__site", "take__own_site").get(pk=pk)
    parts = list(
        Stack.objects.filter(pk__in=one.parts, owner=one.owner).select_related("take__shot").order_by("pk")
    )
    if len(parts) < len(one.parts):
        raise BadInput("one of the stacks it is joined of is gone; put it back from the bin, or choose anew")
    site = one.take.site
    if site is None:
        raise BadInput(f"{one.take.title}: say where it was shot, then it can be joined")
    shutil.rmtree(one.folder, ignore_errors=True)
    one.folder.mkdir(parents=True)
    context.progress("joining", 0.1)
    paths = [(str(p), p.picture, (p.report or {})["field"], field_time(p)) for p in parts]
    made = context.pool.submit(join_files, paths, site.core(), one.picture, one.layout).result()
    one.report = joined_report(made.field, made.report, [p.report or {} for p in parts])
    keep_solved(one.picture, made.field)
    context.progress("drawing", 0.95)
    rgb, _, colour = read_stack(one.picture)
    after = stretched(rgb, colour, gain_for(float(np.median(rgb[::8, ::8, 1]))))
    write_jpeg(one.folder / "after.jpg", after, quality=90)
    write_jpeg(one.folder / "small.jpg", thumbnail(after), quality=88)
    working_copy(one)
    one.save(update_fields=["report"])
