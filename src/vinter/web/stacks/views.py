"""Stacks: starting one, its report, before and after, downloads."""

from pathlib import Path

from django.http import FileResponse, Http404, HttpRequest, HttpResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST

import vinter
from vinter.core.errors import BadInput
from vinter.core.frames.brackets import FEWEST, MOST
from vinter.core.stack.combining.methods import Method
from vinter.core.stack.options import Options
from vinter.web.forms import checked, row_number
from vinter.web.jobs.models import Job, enqueue, latest
from vinter.web.owned import owned, person
from vinter.web.paging import page_of, searched, sorted_by
from vinter.web.quota import check_quota
from vinter.web.stacks.bracket import can_be_merged
from vinter.web.stacks.drawing import drawn
from vinter.web.stacks.forms import StackForm, of_stack
from vinter.web.stacks.gear import lens_offer, take_lens
from vinter.web.stacks.joining import JoinForm, joinable
from vinter.web.stacks.models import Stack
from vinter.web.stacks.plate import KINDS, write
from vinter.web.takes.intake import Refused, take_in_upload
from vinter.web.takes.models import Frame, Take
from vinter.web.workflow import head

AT_ONCE = "finish"  # query of a page that begins a finish as soon as there is something to finish
FILES = {
    "before": ("before.jpg", "image/jpeg"),
    "after": ("after.jpg", "image/jpeg"),
    "small": ("small.jpg", "image/jpeg"),
    "mask": ("stack.mask.png", "image/png"),
    "left-out": ("stack.left-out.png", "image/png"),
    "tiff": ("stack.tif", "image/tiff"),
    "fits": ("stack.fits", "application/fits"),
    "dng": ("stack.dng", "image/x-adobe-dng"),
    "png": ("stack.png", "image/png"),
}


STACK_WORDS = (
    "take__title",
    "take__shot__site__name",
    "take__own_site__name",
    "take__shot__phone__name",
    "kind",
    "options__method",
)


def stacks(request: HttpRequest) -> HttpResponse:
    """All stacks of the user."""
    own = Stack.objects.filter(owner=person(request)).select_related("take")
    found = searched(request, own, STACK_WORDS, "take__shot__night")
    page = page_of(request, sorted_by(request, found, {"take": "take__title", "when": "created"}))
    form = JoinForm(joinable(person(request)))
    can = [key for key, _ in form.fields["parts"].choices]  # type: ignore[attr-defined]
    return render(
        request, "stacks/stacks.html", {"page": page, "form": form, "joinable": can, **head("Stack")}
    )


@require_POST
def new(request: HttpRequest, pk: int) -> HttpResponse:
    """Stack the frames of a take that go into it."""
    take = owned(Take, request, pk)
    lucky = request.POST.get("method") == Stack.LUCKY
    return _begun(request, take, take.readable() if lucky else take.stackable())


def _begun(request: HttpRequest, take: Take, frames: list[Frame], mask: Stack | None = None) -> HttpResponse:
    """A new stack as the form says, queued; with what was painted over another."""
    if not frames:
        raise BadInput(f"{take.title}: no frame goes into the stack, so there is nothing to stack")
    check_quota(take.owner_id)
    form = checked(StackForm(take, frames, request.POST))
    one = Stack.objects.create(
        owner=person(request),
        take=take,
        kind=form.kind,
        ground=form.cleaned_data["ground"],
        options=form.options.stored(),
        frames=[f.pk for f in frames],
        painted=mask is not None and mask.painted and mask.own_mask.is_file(),
        version=vinter.__version__,
    )
    if mask is not None:
        one.keep_painted(mask)
    enqueue(person(request), one.kind, one.pk)
    return redirect("stack", one.pk)


@require_POST
def bracket(request: HttpRequest, pk: int) -> HttpResponse:
    """Merge an exposure bracket of a take, named by the numbers of its frames."""
    take = owned(Take, request, pk)
    check_quota(take.owner_id)
    wanted = {row_number(value) for value in request.POST.getlist("frame")}
    frames = [f for f in can_be_merged(take) if f.pk in wanted]
    if not FEWEST <= len(frames) <= MOST or len(frames) < len(wanted):
        raise BadInput(f"{take.title}: frame: a bracket has {FEWEST} to {MOST} of its frames")
    one = Stack.objects.create(
        owner=person(request),
        take=take,
        kind=Stack.BRACKET,
        frames=[f.pk for f in frames],
        version=vinter.__version__,
    )
    enqueue(person(request), one.kind, one.pk)
    return redirect("stack", one.pk)


@require_POST
def single(request: HttpRequest, pk: int) -> HttpResponse:
    """One frame developed by itself, to be finished: RAW, JPEG, HEIC or the file of an automatic mode."""
    frame = get_object_or_404(Frame.objects.select_related("take"), pk=pk, take__owner=request.user)
    if frame.error:
        raise BadInput(f"{frame.name}: {frame.error}")
    if frame.is_film:
        raise BadInput(f"{frame.name}: a film; its sharpest pictures become one by a stack of the take")
    check_quota(frame.take.owner_id)
    return _to_its_finish(_developed(frame))


def _developed(frame: Frame) -> Stack:
    """A stack of one frame: the one there is, or a new one, queued."""
    take = frame.take
    one: Stack | None = Stack.objects.filter(owner=take.owner, take=take, frames=[frame.pk]).first()
    if one is None:
        one = Stack.objects.create(
            owner=take.owner,
            take=take,
            options=Options(method=Method.MEAN).stored(),
            frames=[frame.pk],
            version=vinter.__version__,
        )
        enqueue(take.owner, "stack", one.pk)
    return one


def _to_its_finish(one: Stack) -> HttpResponse:
    """To the finish of a frame that is developed by itself; its page begins one as soon as it is ready."""
    begun = one.finish_set.first()
    return redirect("finish", begun.pk) if begun else redirect(f"{reverse('stack', args=[one.pk])}?{AT_ONCE}")


@require_POST
def picture(request: HttpRequest) -> HttpResponse:
    """One picture from a file, to be finished: a take of one frame, developed by itself."""
    file = request.FILES.get("file")
    if file is None or not file.name:
        raise BadInput("no file came with the request; choose one picture")
    name = Path(file.name).name[:200]
    take = Take.objects.create(owner=person(request), kind=Take.UPLOADED, title=Path(name).stem[:120])
    try:
        take_in_upload(take, name, file)
    except Refused as error:
        take.delete()
        raise BadInput(str(error)) from error
    enqueue(person(request), "measure", take.pk)
    return _to_its_finish(_developed(take.frame_set.get()))


@require_POST
def otherwise(request: HttpRequest, pk: int) -> HttpResponse:
    """The same frames stacked in another way, beside the first; what did not change is not worked out
    again."""
    one = owned(Stack, request, pk)
    if not one.of_a_burst:
        raise BadInput(f"{one}: it cannot be stacked in another way from here; choose its frames anew")
    frames = list(Frame.objects.filter(pk__in=one.frames, take=one.take))
    return _begun(request, one.take, frames, one)


@require_POST
def keep_lens(request: HttpRequest, pk: int) -> HttpResponse:
    """Take the focal length that a stack's stars show over into Gear."""
    one = owned(Stack, request, pk)
    take_lens(one)
    return redirect("stack", one.pk)


@require_POST
def again(request: HttpRequest, pk: int) -> HttpResponse:
    """Run a stack that failed or was cancelled once more."""
    one = owned(Stack, request, pk)
    enqueue(person(request), one.kind, one.pk)
    return redirect("stack", one.pk)


def stack(request: HttpRequest, pk: int) -> HttpResponse:
    """Progress, then the report with before and after."""
    one = owned(Stack, request, pk)
    job = latest(one.kind, one.pk)
    ready = one.report is not None and (job is None or job.state == Job.DONE)
    return render(
        request,
        one.page_template if ready else "stacks/stack.html",
        {
            "at_once": AT_ONCE in request.GET,
            "stack": one,
            "job": job,
            "ready": ready,
            "report": one.report if ready else None,
            "drawn": drawn(one.report) if ready and one.report and one.of_a_burst else None,
            "finishes": one.finish_set.all(),
            "lens_offer": lens_offer(one) if ready else None,
            "form": StackForm(one.take, list(Frame.objects.filter(pk__in=one.frames)), initial=of_stack(one))
            if ready and one.of_a_burst
            else None,
            "left_out": (one.folder / FILES["left-out"][0]).is_file(),
            **head("Stack", stack=one, context=one.take.title),
        },
    )


def file(request: HttpRequest, pk: int, which: str) -> FileResponse:
    """A file of the stack."""
    one = owned(Stack, request, pk)
    if which in KINDS and one.picture.is_file():
        write(one, which)
    if which not in FILES or not (one.folder / FILES[which][0]).is_file():
        raise Http404("no such file")
    name, kind = FILES[which]
    carried = which == "tiff" or which in KINDS
    return FileResponse(
        (one.folder / name).open("rb"),
        content_type=kind,
        as_attachment=carried,
        filename=f"vinter-stack-{one.pk}{Path(name).suffix}" if carried else name,
    )
