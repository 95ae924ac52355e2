"""The finish: editing with a live picture, and exports."""

import json

from django.db import transaction
from django.http import FileResponse, Http404, HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST

import vinter
from vinter.core.errors import BadInput
from vinter.core.finish.controls import lines
from vinter.core.finish.destinations import for_destination
from vinter.core.finish.export import EXPORT_KINDS
from vinter.core.finish.moves.geometry import Geometry
from vinter.core.finish.recipe import parse_recipe
from vinter.core.finish.render import suggest, untouched
from vinter.core.finish.scene import load_scene
from vinter.web.finish import edit_session
from vinter.web.finish.forms import ExportForm
from vinter.web.finish.models import Export, Finish
from vinter.web.forms import checked
from vinter.web.jobs.models import enqueue, latest
from vinter.web.meanwhile import mark_of
from vinter.web.owned import owned
from vinter.web.quota import check_quota
from vinter.web.stacks.models import Stack
from vinter.web.stacks.working import working_copy
from vinter.web.workflow import head


def finishes(request: HttpRequest) -> HttpResponse:
    """All finishes of the user."""
    own = Finish.objects.filter(owner=request.user).select_related("stack__take")
    return render(request, "finish/finishes.html", {"finishes": own, **head("Finish")})


@require_POST
def new(request: HttpRequest, pk: int) -> HttpResponse:
    """Begin a finish of a stack from a restrained suggestion."""
    stack = owned(Stack, request, pk)
    if not stack.picture.is_file():
        raise BadInput(f"{stack}: it is not stacked yet")
    recipe = suggest(load_scene(working_copy(stack))).model_dump()
    one = Finish.objects.create(owner=request.user, stack=stack, recipe=recipe, version=vinter.__version__)
    return redirect("finish", one.pk)


def finish(request: HttpRequest, pk: int) -> HttpResponse:
    """One finish: the picture live, the moves, the exports."""
    one = owned(Finish, request, pk)
    report = one.stack.report or {}
    many = report.get("frames_used", 0)
    context = f"{one.stack.take.title} · {many} frame{'' if many == 1 else 's'}"
    if report.get("noise_gain"):
        context += f" · {report['noise_gain']:.1f}× less noise"
    exports = [(e, latest("export", e.pk)) for e in one.export_set.all()]
    return render(
        request,
        "finish/finish.html",
        {
            "finish": one,
            "lines": lines(one.core()),
            "seen": mark_of(one.recipe),
            "exports": exports,
            "form": ExportForm(auto_id="%s"),
            **head("Finish", finish=one, context=context),
        },
    )


@require_POST
def draw(request: HttpRequest, pk: int) -> HttpResponse:
    """Render a recipe, or the stack as it came in the same crop: JPEG in the body, histogram and limits in a
    header."""
    one = owned(Finish, request, pk)
    recipe = parse_recipe(request.body)
    if request.GET.get("before"):
        own = edit_session.SESSIONS.of(working_copy(one.stack)).scene
        recipe = untouched(own).with_moves(recipe.of(Geometry))
    made = edit_session.render(working_copy(one.stack), recipe, request.GET.get("size") == "draft")
    figures = {
        "histogram": made.histogram,
        "noise": round(made.limits.sky_noise, 2),
        "words": made.limits.words,
        "headroom": round(made.limits.headroom_ev, 2),
        "size": made.size,
        "to_shares": made.to_shares,
    }
    return HttpResponse(
        made.jpeg,
        content_type="image/jpeg",
        headers={"X-Vinter": json.dumps(figures), "Cache-Control": "no-store"},
    )


@require_POST
def save(request: HttpRequest, pk: int) -> HttpResponse:
    """Keep a recipe, unless another window kept one since this one looked: then that one is told, and nothing
    is stored."""
    owned(Finish, request, pk)
    wanted = parse_recipe(request.body).model_dump()
    seen = request.headers.get("X-Vinter-Seen", "")
    with transaction.atomic():
        one = Finish.objects.select_for_update().get(pk=pk)
        if seen and seen != mark_of(one.recipe) and wanted != one.core().model_dump():
            return JsonResponse({"recipe": one.recipe, "seen": mark_of(one.recipe)}, status=409)
        one.recipe = wanted
        one.save(update_fields=["recipe", "changed"])
    return JsonResponse({"saved": True, "seen": mark_of(one.recipe)})


def recipe_file(request: HttpRequest, pk: int) -> HttpResponse:
    """The recipe as a JSON file, for the command line."""
    one = owned(Finish, request, pk)
    return HttpResponse(
        json.dumps(one.recipe, indent=1),
        content_type="application/json",
        headers={"Content-Disposition": f'attachment; filename="vinter-recipe-{one.pk}.json"'},
    )


@require_POST
def export(request: HttpRequest, pk: int) -> HttpResponse:
    """Queue an export of the kept recipe, or one for each place it goes to."""
    one = owned(Finish, request, pk)
    check_quota(one.owner_id)
    wanted = checked(ExportForm(request.POST)).cleaned_data
    wishes = [(one.recipe, wanted["width"])]
    if wanted["destination"]:
        there = [for_destination(one.core(), key) for key in wanted["destination"]]
        wishes = [(recipe.model_dump(), width) for recipe, width in there]
    for recipe, width in wishes:
        made = Export.objects.create(
            owner=request.user, finish=one, recipe=recipe, kind=wanted["kind"], width=width
        )
        enqueue(request.user, "export", made.pk)
    return redirect("finish", one.pk)


def download(request: HttpRequest, pk: int, which: str = "full") -> HttpResponse:
    """An exported picture."""
    one = owned(Export, request, pk)
    path = one.small if which == "small" else one.path
    if not path.is_file():
        raise Http404("not exported yet")
    kind = EXPORT_KINDS["jpg" if which == "small" else one.kind].content_type
    return FileResponse(
        path.open("rb"),
        content_type=kind,
        as_attachment=which == "full",
        filename=f"vinter-{one.finish.stack.take.pk}-{one.pk}.{one.kind}",
    )
