"""Stacks: starting one, its report, before and after, downloads."""

from pathlib import Path

from django.http import FileResponse, Http404, HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST

import vinter
from vinter.core.errors import BadInput
from vinter.core.stack.pipeline import Settings
from vinter.web.chain import head
from vinter.web.jobs.models import Job, enqueue, latest
from vinter.web.owned import owned
from vinter.web.stacks.drawing import residual_bars
from vinter.web.stacks.field import KINDS, write
from vinter.web.stacks.models import Stack
from vinter.web.takes.models import Take

FILES = {"before": ("before.jpg", "image/jpeg"), "after": ("after.jpg", "image/jpeg"), "small": ("small.jpg", "image/jpeg"),
         "mask": ("stack.mask.png", "image/png"), "left-out": ("stack.left-out.png", "image/png"), "tiff": ("stack.tif", "image/tiff"),
         "fits": ("stack.fits", "application/fits"), "dng": ("stack.dng", "image/x-adobe-dng"),
         "png": ("stack.png", "image/png")}


def stacks(request: HttpRequest) -> HttpResponse:
    """All stacks of the user."""
    own = Stack.objects.filter(owner=request.user).select_related("take")
    return render(request, "stacks/stacks.html", {"stacks": own, **head("Stack")})


@require_POST
def new(request: HttpRequest, pk: int) -> HttpResponse:
    """Stack the kept frames of a take."""
    take = owned(Take, request, pk)
    frames = take.kept()
    if not frames:
        raise BadInput(f"{take.title}: no frame is kept, so there is nothing to stack")
    try:
        kappa, tail = float(request.POST.get("kappa", "3.5")), float(request.POST.get("tail", "0"))
    except ValueError as error:
        raise BadInput("kappa and tail must be numbers") from error
    method, ground, gaps = (request.POST.get(key, usual) for key, usual in (("method", "clip"), ("ground", "auto"), ("gaps", "close")))
    Settings(method, kappa, ground, gaps=gaps, tail=tail)
    one = Stack.objects.create(owner=request.user, take=take, method=method, kappa=kappa, ground=ground, gaps=gaps, tail=tail,
                               frames=[f.pk for f in frames], version=vinter.__version__)
    enqueue(request.user, "stack", one.pk)
    return redirect("stack", one.pk)


@require_POST
def again(request: HttpRequest, pk: int) -> HttpResponse:
    """Run a stack that failed or was cancelled once more."""
    one = owned(Stack, request, pk)
    enqueue(request.user, "stack", one.pk)
    return redirect("stack", one.pk)


def stack(request: HttpRequest, pk: int) -> HttpResponse:
    """Progress, then the report with before and after."""
    one = owned(Stack, request, pk)
    job = latest("stack", one.pk)
    ready = one.report is not None and (job is None or job.state == Job.DONE)
    return render(request, "stacks/stack.html", {
        "stack": one, "job": job, "ready": ready, "report": one.report if ready else None,
        "bars": residual_bars(one.report) if ready and one.report else None, "finishes": one.finish_set.all(),
        "left_out": (one.folder / FILES["left-out"][0]).is_file(),
        **head("Stack", stack=one, context=one.take.title)})


def file(request: HttpRequest, pk: int, which: str) -> HttpResponse:
    """A file of the stack."""
    one = owned(Stack, request, pk)
    if which in KINDS and one.picture.is_file():
        write(one, which)
    if which not in FILES or not (one.folder / FILES[which][0]).is_file():
        raise Http404("no such file")
    name, kind = FILES[which]
    carried = which == "tiff" or which in KINDS
    return FileResponse((one.folder / name).open("rb"), content_type=kind, as_attachment=carried,
                        filename=f"vinter-stack-{one.pk}{Path(name).suffix}" if carried else name)
