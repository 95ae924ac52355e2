"""Taking everything away, and bringing it in."""

from django.conf import settings
from django.db import transaction
from django.http import FileResponse, Http404, HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST

from vinter.core.formats.whole import whole
from vinter.web.archive.models import Archive
from vinter.web.archive.reading import about
from vinter.web.jobs.models import enqueue, latest
from vinter.web.owned import owned, person
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
