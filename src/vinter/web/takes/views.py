"""Takes: shooting, uploading, and the bench where frames are judged."""

from pathlib import Path

from django.db.models import Count, Q
from django.http import FileResponse, Http404, HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST

from vinter.core.errors import BadInput
from vinter.core.formats.video import LEAST_FRAMES, can_write
from vinter.core.frames.frame_type import FRAME_TYPES
from vinter.web.bin.models import put_in
from vinter.web.bin.views import offering_undo
from vinter.web.forecast.chances import cloud_over
from vinter.web.forms import checked, row_number
from vinter.web.jobs.models import enqueue, latest
from vinter.web.owned import owned, person
from vinter.web.paging import page_of, searched, sorted_by
from vinter.web.parts import append, asked
from vinter.web.shots.models import Shot
from vinter.web.takes.focus import learn_focus
from vinter.web.takes.forms import DecisionForm, FilmForm, FocusForm, FrameTypeForm
from vinter.web.takes.intake import PARTIAL, Refused, room_for, take_in_upload, taken_in
from vinter.web.takes.models import Frame, Take
from vinter.web.takes.unplanned import OriginForm
from vinter.web.workflow import head

LEAST_CLOUD = 0.02  # share of the sky, under which the simulated sky is clear
ORDERS = {
    "name": "name",
    "stars": "stars",
    "width": "fwhm_px",
    "shape": "elongation",
    "background": "background",
}


TAKE_WORDS = ("title", "shot__site__name", "own_site__name", "shot__phone__name", "own_phone__name")


# columns by which the list is sorted
COLUMNS = {"title": "title", "kind": "kind", "frames": "frames", "when": "created"}


def takes(request: HttpRequest) -> HttpResponse:
    """All takes of the user."""
    counted = Count("frame", filter=Q(frame__binned=None))
    own = Take.objects.filter(owner=person(request)).annotate(frames=counted).order_by("-pk")
    return render(
        request,
        "takes/takes.html",
        {
            "page": page_of(
                request, sorted_by(request, searched(request, own, TAKE_WORDS, "shot__night"), COLUMNS)
            ),
            "shots": Shot.objects.filter(owner=person(request))[:20],
            **head("Takes"),
        },
    )


@require_POST
def shoot(request: HttpRequest, pk: int) -> HttpResponse:
    """Let the simulated phone shoot a shot."""
    shot = owned(Shot, request, pk)
    shot.check_sun()
    cloud = cloud_over(shot.site, shot.moment, shot.moment + shot.frames * shot.shutter)
    take = Take.objects.create(
        owner=person(request),
        shot=shot,
        kind=Take.SIMULATED,
        title=shot.title,
        seed=shot.take_set.count() + 1,
        simulation_overrides={"cloud": round(cloud, 2)} if cloud >= LEAST_CLOUD else {},
    )
    enqueue(person(request), "shoot", take.pk)
    return redirect("take", take.pk)


@require_POST
def new_upload(request: HttpRequest) -> HttpResponse:
    """An empty take for the user's own files, for a shot or on its own."""
    wanted = row_number(request.POST.get("shot", ""))
    shot = None if wanted is None else owned(Shot, request, wanted)
    take = Take.objects.create(
        owner=person(request), shot=shot, kind=Take.UPLOADED, title=shot.title if shot else "Own frames"
    )
    return redirect("take", take.pk)


def take(request: HttpRequest, pk: int) -> HttpResponse:
    """The bench: the contact sheet with measures, or the progress of what is being done."""
    one = owned(Take, request, pk)
    job = latest("shoot" if one.kind == Take.SIMULATED else "measure", one.pk)
    frames = list(one.frame_set.all())
    order = request.GET.get("order", "name")
    if order in ORDERS and order != "name":
        frames.sort(
            key=lambda f: (f.measure or {}).get(ORDERS[order], 0),
            reverse=order in ("width", "shape", "background"),
        )
    return render(
        request,
        "takes/take.html",
        {
            "take": one,
            "frames": frames,
            "job": job,
            "stacks": one.stack_set.all(),
            "order": order,
            "orders": ORDERS,
            "frame_types": FRAME_TYPES,
            "stackable": len(one.stackable()),
            "films_alone": bool(frames) and all(f.is_film for f in frames),
            "filming": latest("film", one.pk),
            "filmed": one.film.is_file(),
            "focus_form": FocusForm(one) if one.shot and frames else None,
            "learned": one.shot.phone.learned.get(one.shot.lens) if one.shot else None,
            "origin": None if one.shot or not frames else OriginForm(one),
            "facts": one.facts(),
            "groups": None if one.shot else one.groups(),
            "film_form": FilmForm(auto_id="film-%s", initial=one.film_wish or None),
            **head("Takes", take=one, context=one.title),
        },
    )


def film(request: HttpRequest, pk: int) -> HttpResponse | FileResponse:
    """The time-lapse of a take; by POST it is made anew from the stackable frames."""
    one = owned(Take, request, pk)
    if request.method == "POST":
        if len(one.stackable()) < LEAST_FRAMES:
            raise BadInput(
                f"{one.title}: a time-lapse needs {LEAST_FRAMES} frames that go into the stack, or more"
            )
        one.film.unlink(missing_ok=True)
        one.film_wish = checked(FilmForm(request.POST)).cleaned_data
        if not can_write(one.film.suffix):
            raise BadInput(f"this machine has no encoder for {one.film_wish['kind'].upper()}; take WebM")
        one.save(update_fields=["film_wish"])
        enqueue(person(request), "film", one.pk)
        return redirect("take", one.pk)
    if not one.film.is_file():
        raise Http404("no time-lapse yet")
    return FileResponse(
        one.film.open("rb"),
        content_type=f"video/{one.film.suffix[1:]}",
        as_attachment=True,
        filename=f"vinter-take-{one.pk}{one.film.suffix}",
    )


@require_POST
def decide(request: HttpRequest, pk: int) -> HttpResponse:
    """Keep or drop one frame, or go back to what was suggested."""
    frame = get_object_or_404(Frame, pk=pk, take__owner=request.user)
    frame.decision = checked(DecisionForm(request.POST)).cleaned_data["decision"]
    frame.save(update_fields=["decision"])
    if not request.htmx:  # type: ignore[attr-defined]
        return redirect("take", frame.take_id)
    return _one_frame(request, frame)


@require_POST
def delete_left_out(request: HttpRequest, pk: int) -> HttpResponse:
    """Put the frames that serve for nothing into the bin: those left out, and those that cannot be read."""
    one = owned(Take, request, pk)
    idle = [f for f in one.frame_set.all() if not f.included]
    if not idle:
        raise BadInput(f"{one.title}: every frame is used, so none was deleted")
    count = f"{len(idle)} frame{'s' if len(idle) > 1 else ''}"
    return offering_undo(one.page(), put_in(person(request), f"{count} of {one.title}", idle, one.page()))


def _one_frame(request: HttpRequest, frame: Frame) -> HttpResponse:
    """A frame in the contact sheet, with the count of those that go into the stack."""
    return render(
        request,
        "takes/frame.html",
        {
            "frame": frame,
            "stackable": len(frame.take.stackable()),
            "swapped": True,
            "frame_types": FRAME_TYPES,
        },
    )


def preview(request: HttpRequest, pk: int, size: str) -> FileResponse:
    """A picture of a frame: small for the sheet, full for the loupe."""
    frame = get_object_or_404(Frame, pk=pk, take__owner=request.user)
    suffix = ".small.jpg" if size == "small" else ".jpg"
    path = frame.take.previews / f"{Path(frame.stored).stem}{suffix}"
    if not path.is_file():
        raise Http404("no picture yet")
    return FileResponse(
        path.open("rb"), content_type="image/jpeg", headers={"Cache-Control": "private, max-age=3600"}
    )


def upload(request: HttpRequest, pk: int) -> JsonResponse:
    """Take in one file, whole or in parts. Answers in JSON.

    In parts: GET with ``id`` says how many bytes are here; POST of raw bytes with ``id``, ``name``, ``size``
    and ``offset`` adds to them. A part at another offset is refused with the true one, so that a broken
    connection goes on where it broke.
    """
    one = owned(Take, request, pk)
    try:
        if "id" in request.GET:
            return JsonResponse(_part(request, one))
        if request.method != "POST":
            raise Refused("a file is wanted by POST", 405)
        file = request.FILES.get("file")
        if file is None or not file.name:
            raise Refused("no file came with the request")
        return JsonResponse(take_in_upload(one, Path(file.name).name[:200], file))
    except Refused as error:
        return JsonResponse({"error": str(error)}, status=error.status)


def _part(request: HttpRequest, one: Take) -> dict[str, object]:
    """One part of an upload, or how far it has come."""
    try:
        wanted = asked(request, one.folder / PARTIAL)
    except BadInput as error:
        raise Refused(str(error)) from error
    if request.method != "POST":
        return {"offset": wanted.here}
    if wanted.size != wanted.here or not wanted.size:
        room_for(one.owner_id, wanted.name, wanted.size - wanted.here)
    part = append(wanted.path, request.body, wanted.offset, wanted.size)
    if part.whole is None:
        return {"offset": part.here, **({} if part.added else {"again": True})}
    return taken_in(one, wanted.name, part.whole, wanted.digest)


@require_POST
def set_type(request: HttpRequest, pk: int) -> HttpResponse:
    """Overrule what a frame was taken for."""
    frame = get_object_or_404(Frame, pk=pk, take__owner=request.user)
    if frame.is_film:
        raise BadInput(f"{frame.name}: a film stays one")
    frame.frame_type = checked(FrameTypeForm(request.POST)).cleaned_data["frame_type"]
    frame.type_set_by_hand = True
    frame.save(update_fields=["frame_type", "type_set_by_hand"])
    return _one_frame(request, frame)


@require_POST
def focus(request: HttpRequest, pk: int) -> HttpResponse:
    """At which ticks a take and its test frames were focused; infinity is learned from them."""
    one = owned(Take, request, pk)
    checked(FocusForm(one, request.POST)).keep()
    learn_focus(Take.objects.get(pk=one.pk))
    return redirect("take", one.pk)


@require_POST
def measure(request: HttpRequest, pk: int) -> HttpResponse:
    """Measure what was uploaded."""
    one = owned(Take, request, pk)
    enqueue(person(request), "measure", one.pk)
    return redirect("take", one.pk)
