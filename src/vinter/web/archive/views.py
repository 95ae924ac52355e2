"""Taking everything away, and bringing it in."""

from pathlib import Path

from django.conf import settings
from django.db import transaction
from django.http import (
    FileResponse,
    Http404,
    HttpRequest,
    HttpResponse,
    JsonResponse,
    StreamingHttpResponse,
)
from django.shortcuts import redirect, render
from django.urls import reverse
from django.views.decorators.http import require_POST

from vinter.core.errors import BadInput
from vinter.core.formats.whole import check_room, whole
from vinter.web.archive.chosen import EXPORTED, chosen_zip
from vinter.web.archive.models import Archive
from vinter.web.archive.reading import about
from vinter.web.bin.views import chosen_rows
from vinter.web.jobs.models import enqueue, latest
from vinter.web.owned import owned, person
from vinter.web.parts import append, asked
from vinter.web.quota import check_quota
from vinter.web.uploads import one_file
from vinter.web.workflow import head


def _forget(request: HttpRequest, incoming: bool) -> None:
    """Earlier archives of the same direction go: there is one at a time."""
    for old in Archive.objects.filter(owner=person(request), incoming=incoming):
        old.path.unlink(missing_ok=True)
        old.delete()


def archive(request: HttpRequest) -> HttpResponse:
    """The page; by POST a new archive is made."""
    if request.method == "POST":
        with transaction.atomic():
            _forget(request, incoming=False)
            one = Archive.objects.create(owner=person(request), originals=bool(request.POST.get("originals")))
        enqueue(person(request), one.kind, one.pk)
        return redirect("archive")
    own = Archive.objects.filter(owner=person(request))
    out, back = own.filter(incoming=False).first(), own.filter(incoming=True).first()
    return render(
        request,
        "archive/archive.html",
        {
            "out": out,
            "out_job": latest("archive", out.pk) if out else None,
            "back": back,
            "back_job": latest("import-archive", back.pk) if back else None,
            "largest": settings.UPLOAD_LIMIT,
            **head("", context="Archive"),
        },
    )


def download(request: HttpRequest, pk: int) -> FileResponse:
    """The archive that was made."""
    one = owned(Archive, request, pk)
    if one.incoming or not one.path.is_file():
        raise Http404("no archive here")
    name = f"vinter-{one.owner.get_username()}-{one.created:%Y-%m-%d}.zip"
    return FileResponse(
        one.path.open("rb"), content_type="application/zip", as_attachment=True, filename=name
    )


def part(request: HttpRequest) -> JsonResponse:
    """One part of an archive on its way in, or how far it has come: GET with ``id`` says how many bytes are
    here; POST of raw bytes with ``id``, ``size`` and ``offset`` adds to them, and the last one queues its
    reading. Answers in JSON."""
    owner = person(request)
    wanted = asked(request, Path(settings.MEDIA_ROOT) / str(owner.pk) / "archives" / "partial")
    if request.method != "POST":
        return JsonResponse({"offset": wanted.here})
    try:
        check_quota(owner.pk, wanted.size - wanted.here)
        check_room(settings.HOME, wanted.size - wanted.here)
        added = append(wanted.path, request.body, wanted.offset, wanted.size)
        if added.whole is None:
            return JsonResponse({"offset": added.here})
        _check(added.whole, wanted.name)
    except (BadInput, OSError) as error:
        return JsonResponse({"error": str(error)}, status=400)
    _forget(request, incoming=True)
    one = Archive.objects.create(owner=owner, incoming=True)
    added.whole.rename(one.path)
    enqueue(owner, one.kind, one.pk)
    return JsonResponse({"led": reverse("archive")})


def _check(whole: Path, name: str) -> None:
    """Delete what came whole and is no archive; BadInput says so with the name it was sent by."""
    try:
        about(whole)
    except BadInput as error:
        whole.unlink()
        raise BadInput(str(error).replace(whole.name, name)) from error


@require_POST
def bring_in(request: HttpRequest) -> HttpResponse:
    """Take an archive file in, and queue its reading."""
    file = one_file(request, "an archive of Vinter (a ZIP file)", settings.UPLOAD_LIMIT)
    check_quota(request.user.pk or 0, file.size or 0)
    _forget(request, incoming=True)
    one = Archive.objects.create(owner=person(request), incoming=True)
    one.path.parent.mkdir(parents=True, exist_ok=True)
    try:
        with whole(one.path) as draft, draft.open("wb") as out:
            for chunk in file.chunks():
                out.write(chunk)
        about(one.path)
    except BaseException:
        one.path.unlink(missing_ok=True)
        one.delete()
        raise
    enqueue(person(request), one.kind, one.pk)
    return redirect("archive")


@require_POST
def export_chosen(request: HttpRequest, kind: str) -> StreamingHttpResponse:
    """The rows that were chosen of a list, with their files, as a ZIP file that is written as it is sent."""
    rows = chosen_rows(request, kind)
    if not isinstance(rows[0], EXPORTED):
        raise Http404("nothing of this kind can be exported")
    return StreamingHttpResponse(
        chosen_zip(rows),
        content_type="application/zip",
        headers={"Content-Disposition": f'attachment; filename="vinter-{kind}.zip"'},
    )
