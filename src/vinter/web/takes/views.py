"""Takes: shooting, uploading, and the bench where frames are judged."""

import hashlib
import secrets
import shutil
from pathlib import Path

from django.conf import settings
from django.db import IntegrityError, transaction
from django.http import FileResponse, Http404, HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.views.decorators.http import require_POST

from vinter.core.errors import BadInput
from vinter.core.frames.sandbox import check_content
from vinter.web.chain import head
from vinter.web.jobs.models import enqueue, latest
from vinter.web.owned import owned
from vinter.web.shots.models import Shot
from vinter.web.takes.models import Frame, Take

SORTS = {"name": "name", "stars": "stars", "width": "fwhm_px", "shape": "elongation", "background": "background"}
SPARE_BYTES = 500 * 2**20


def takes(request: HttpRequest) -> HttpResponse:
    """All takes of the user."""
    return render(request, "takes/takes.html", {
        "takes": Take.objects.filter(owner=request.user).select_related("shot"),
        "shots": Shot.objects.filter(owner=request.user)[:20], **head("Takes")})


@require_POST
def shoot(request: HttpRequest, pk: int) -> HttpResponse:
    """Let the simulated phone shoot a shot."""
    shot = owned(Shot, request, pk)
    take = Take.objects.create(owner=request.user, shot=shot, kind=Take.SIMULATED, title=shot.title, seed=shot.take_set.count() + 1)
    enqueue(request.user, "shoot", take.pk)
    return redirect("take", take.pk)


@require_POST
def new_upload(request: HttpRequest) -> HttpResponse:
    """An empty take for the user's own files, for a shot or on its own."""
    shot = owned(Shot, request, int(request.POST["shot"])) if request.POST.get("shot", "").isdigit() else None
    take = Take.objects.create(owner=request.user, shot=shot, kind=Take.UPLOADED, title=shot.title if shot else "Own frames")
    return redirect("take", take.pk)


def take(request: HttpRequest, pk: int) -> HttpResponse:
    """The bench: the contact sheet with measures, or the progress of what is being done."""
    one = owned(Take, request, pk)
    job = latest("shoot" if one.kind == Take.SIMULATED else "measure", one.pk)
    frames = list(one.frame_set.all())
    sort = request.GET.get("sort", "name")
    if sort in SORTS and sort != "name":
        frames.sort(key=lambda f: (f.measure or {}).get(SORTS[sort], 0), reverse=sort in ("width", "shape", "background"))
    return render(request, "takes/take.html", {
        "take": one, "frames": frames, "job": job, "sort": sort, "sorts": SORTS, "kept": len(one.kept()),
        "stacks": one.stack_set.all(), **head("Takes", take=one, context=one.title)})


@require_POST
def decide(request: HttpRequest, pk: int) -> HttpResponse:
    """Keep or drop one frame, or go back to what was suggested."""
    frame = get_object_or_404(Frame, pk=pk, take__owner=request.user)
    wanted = request.POST.get("decision", "")
    if wanted not in ("", Frame.KEEP, Frame.DROP):
        raise BadInput(f"{wanted!r} is neither keep nor drop")
    frame.decision = wanted
    frame.save(update_fields=["decision"])
    if not request.headers.get("HX-Request"):
        return redirect("take", frame.take_id)
    return render(request, "takes/frame.html", {"frame": frame, "kept": len(frame.take.kept()), "swapped": True})


def look(request: HttpRequest, pk: int, size: str) -> HttpResponse:
    """A picture of a frame: small for the sheet, full for the loupe."""
    frame = get_object_or_404(Frame, pk=pk, take__owner=request.user)
    suffix = ".small.jpg" if size == "small" else ".jpg"
    path = frame.take.looks / f"{Path(frame.stored).stem}{suffix}"
    if not path.is_file():
        raise Http404("no picture yet")
    return FileResponse(path.open("rb"), content_type="image/jpeg", headers={"Cache-Control": "private, max-age=3600"})


@require_POST
def upload(request: HttpRequest, pk: int) -> HttpResponse:
    """Take in one file. Answers in JSON; a duplicate is recognised by its content and kept once."""
    one = owned(Take, request, pk)
    file = request.FILES.get("file")
    if file is None or not file.name:
        return JsonResponse({"error": "no file came with the request"}, status=400)
    name = Path(file.name).name[:200]
    if file.size is None or file.size == 0:
        return JsonResponse({"error": f"{name}: the file is empty"}, status=400)
    if file.size > settings.UPLOAD_LIMIT:
        return JsonResponse({"error": f"{name}: larger than {settings.UPLOAD_LIMIT // 2**20} MB"}, status=400)
    if shutil.disk_usage(settings.MEDIA_ROOT.parent).free < file.size + SPARE_BYTES:
        return JsonResponse({"error": f"{name}: the disk is nearly full; nothing was lost, free some space and send it again"}, status=507)
    digest = hashlib.sha256()
    for chunk in file.chunks():
        digest.update(chunk)
    file.seek(0)
    try:
        check_content(name, file.read(8))
    except BadInput as error:
        return JsonResponse({"error": str(error)}, status=400)
    file.seek(0)
    stored = f"{secrets.token_hex(8)}{Path(name).suffix.lower()}"
    one.folder.mkdir(parents=True, exist_ok=True)
    with (one.folder / stored).open("wb") as out:
        for chunk in file.chunks():
            out.write(chunk)
    try:
        with transaction.atomic():
            Frame.objects.create(take=one, name=name, stored=stored, size=file.size, digest=digest.hexdigest())
    except IntegrityError:
        (one.folder / stored).unlink()
        return JsonResponse({"name": name, "duplicate": True})
    return JsonResponse({"name": name, "duplicate": False})


@require_POST
def measure(request: HttpRequest, pk: int) -> HttpResponse:
    """Measure what was uploaded."""
    one = owned(Take, request, pk)
    enqueue(request.user, "measure", one.pk)
    return redirect("take", one.pk)
