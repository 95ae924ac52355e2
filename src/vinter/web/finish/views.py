"""The finish: editing with a live picture, and exports."""

import json
import tempfile
import zipfile
from dataclasses import asdict

from django.db import transaction
from django.http import FileResponse, Http404, HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import get_object_or_404, redirect, render
from django.template.loader import render_to_string
from django.views.decorators.cache import never_cache
from django.views.decorators.http import require_POST

import vinter
from vinter.core.errors import BadInput
from vinter.core.finish.controls import lines
from vinter.core.finish.destinations import for_destination, made_size, shortfalls
from vinter.core.finish.export import EXPORT_KINDS, expected_sizes
from vinter.core.finish.looks import LOOKS, fitted, grey_at, portable
from vinter.core.finish.moves.geometry import MOST_LEAN, Geometry
from vinter.core.finish.moves.gradient_removal import PLANE, plain_level
from vinter.core.finish.overlay import Overlay, overlay
from vinter.core.finish.recipe import RecipeParts, parse_recipe, recipe_from
from vinter.core.finish.scene import Scene, load_scene
from vinter.core.finish.suggestion import by_stars, suggest, untouched
from vinter.web.field.views import STANDALONE_POLICY
from vinter.web.finish import edit_session
from vinter.web.finish.caption import caption
from vinter.web.finish.forms import ExportForm, NameForm, PickForm, ViewForm
from vinter.web.finish.models import Export, Finish, Look
from vinter.web.finish.sheet import PLACES, sheet
from vinter.web.forms import checked, row_number
from vinter.web.jobs.models import enqueue, latest
from vinter.web.meanwhile import mark_of
from vinter.web.owned import owned, person
from vinter.web.paging import page_of, searched, sorted_by
from vinter.web.quota import check_quota
from vinter.web.stacks.models import Stack
from vinter.web.stacks.working import working_copy
from vinter.web.workflow import head

FINISH_WORDS = ("name", "stack__take__title", "stack__take__shot__site__name", "stack__take__own_site__name")


def finishes(request: HttpRequest) -> HttpResponse:
    """All finishes of the user."""
    own = Finish.objects.filter(owner=person(request)).select_related("stack__take")
    found = searched(request, own, FINISH_WORDS, "stack__take__shot__night")
    columns = {"take": "stack__take__title", "title": "name", "changed": "changed"}
    page = page_of(request, sorted_by(request, found, columns))
    return render(request, "finish/finishes.html", {"page": page, **head("Finish")})


@require_POST
def new(request: HttpRequest, pk: int) -> HttpResponse:
    """Begin a finish of a stack from a restrained suggestion."""
    stack = owned(Stack, request, pk)
    if not stack.picture.is_file():
        raise BadInput(f"{stack}: it is not stacked yet")
    recipe = suggest(load_scene(working_copy(stack))).model_dump()
    one = Finish.objects.create(owner=person(request), stack=stack, recipe=recipe, version=vinter.__version__)
    return redirect("finish", one.pk)


def _scene(one: Finish) -> Scene:
    return edit_session.SESSIONS.of(working_copy(one.stack)).scene


def _context(one: Finish) -> str:
    """The line at the head of the page."""
    report = one.stack.report or {}
    many = report.get("frames_used", 0)
    text = f"{one.stack.take.title} · {many} frame{'' if many == 1 else 's'}"
    if report.get("noise_gain"):
        text += f" · {report['noise_gain']:.1f}× less noise"
    return text


def _facts(scene: Scene) -> dict[str, object]:
    """What the stars say of a picture: its tilt, its white, where its core stands."""
    white, up, stars = by_stars(scene), scene.looked_up, scene.stars
    return {
        "tilt": None if scene.tilt is None else round(scene.tilt, 1),
        "white": {"kelvin": white[0], "cast": round(white[1], 2), "error": round(scene.white.error, 3)}
        | {"stars": scene.white.stars}
        if white and scene.white
        else None,
        "looked_up": None if up is None else round(max(min(up, MOST_LEAN), -MOST_LEAN), 1),
        "stars": {k: round(v, 2) for k, v in asdict(stars).items()} if stars else None,
        "core": [round(v, 3) for v in scene.core],
        "solved": scene.field is not None,
    }


@never_cache  # a page gone back to shows what is kept, not what was
def finish(request: HttpRequest, pk: int) -> HttpResponse:
    """One finish: the picture live, the moves, the exports."""
    one = owned(Finish, request, pk)
    exports = [(e, latest("export", e.pk)) for e in one.export_set.all()]
    scene = _scene(one)
    own = {
        f"own-{look.pk}": (look.name, fitted(recipe_from(look.recipe), scene))
        for look in Look.objects.filter(owner=person(request))
    }
    looks = {key: (name, make(scene)) for key, (name, make) in LOOKS.items()} | own
    return render(
        request,
        "finish/finish.html",
        {
            "finish": one,
            "recipe": one.core().model_dump(),
            "lines": lines(one.core()),
            "seen": mark_of(one.recipe),
            "exports": exports,
            "several": sum(e.ready for e, _ in exports) > 1,
            "form": ExportForm(auto_id="%s"),
            "facts": _facts(scene),
            "least_plain": PLANE,
            "looks": [(key, name) for key, (name, _) in looks.items()],
            "look_recipes": {key: recipe.model_dump() for key, (_, recipe) in looks.items()},
            "others": Finish.objects.filter(stack=one.stack).exclude(pk=one.pk),
            "caption": caption(one),
            "before_after": (one.stack.report or {}).get("frames_used", 0) > 1
            and (one.stack.folder / "before.jpg").is_file(),
            **head("Finish", finish=one, context=_context(one)),
        },
    )


@require_POST
def draw(request: HttpRequest, pk: int) -> HttpResponse:
    """Render a recipe, or the stack as it came in the same crop: JPEG in the body, histogram and limits in a
    header."""
    one = owned(Finish, request, pk, "stack")
    form = checked(ViewForm(request.GET))
    recipe = parse_recipe(request.body)
    working = working_copy(one.stack)
    if form.cleaned_data["before"]:
        own = edit_session.SESSIONS.of(working).scene
        recipe = untouched(own).with_moves(recipe.of(Geometry))
    made = edit_session.render(working, recipe, form.view)
    figures = {
        "histogram": made.histogram,
        "noise": round(made.limits.sky_noise, 2),
        "words": made.limits.words,
        "headroom": round(made.limits.headroom_ev, 2),
        "ends": made.limits.ends,
        "size": made.size,
        "scale": made.scale,
        "to_shares": made.to_shares,
    }
    return HttpResponse(
        made.jpeg,
        content_type="image/jpeg",
        headers={"X-Vinter": json.dumps(figures), "Cache-Control": "no-store"},
    )


@require_POST
def plain(request: HttpRequest, pk: int) -> HttpResponse:
    """The level of the sky at a place that is marked as plain sky."""
    one = owned(Finish, request, pk)
    at = checked(PickForm(request.POST)).cleaned_data
    return JsonResponse({"level": plain_level(_scene(one), at["x"], at["y"]).tolist()})


@require_POST
def pick(request: HttpRequest, pk: int) -> HttpResponse:
    """Kelvin and cast at which a place of the picture comes out grey."""
    one = owned(Finish, request, pk)
    at = checked(PickForm(request.POST)).cleaned_data
    kelvin, cast = grey_at(_scene(one), at["x"], at["y"])
    return JsonResponse({"kelvin": kelvin, "cast": round(cast, 2)})


def picture(request: HttpRequest, pk: int) -> HttpResponse:
    """The finish as it is kept, small."""
    one = owned(Finish, request, pk)
    return _small(one, one.core())


def look_picture(request: HttpRequest, pk: int, key: str) -> HttpResponse:
    """A look on this picture, small."""
    one = owned(Finish, request, pk)
    scene = _scene(one)
    if key in LOOKS:
        recipe = LOOKS[key][1](scene)
    else:
        number = row_number(key.removeprefix("own-")) or 0
        recipe = fitted(recipe_from(get_object_or_404(Look, pk=number, owner=person(request)).recipe), scene)
    return _small(one, recipe)


def _small(one: Finish, recipe: RecipeParts) -> HttpResponse:
    return HttpResponse(
        edit_session.small(working_copy(one.stack), recipe),
        content_type="image/jpeg",
        headers={"Cache-Control": "private, max-age=60"},
    )


@require_POST
def keep_look(request: HttpRequest, pk: int) -> HttpResponse:
    """Keep what can be taken to other pictures, under a name; one of the same name is replaced."""
    one = owned(Finish, request, pk)
    name = checked(NameForm(request.POST)).cleaned_data["name"]
    Look.objects.update_or_create(
        owner=person(request), name=name, defaults={"recipe": portable(one.core()).model_dump()}
    )
    return redirect("finish", one.pk)


@require_POST
def rename(request: HttpRequest, pk: int) -> HttpResponse:
    """Give a finish a name."""
    one = owned(Finish, request, pk)
    one.name = checked(NameForm(request.POST)).cleaned_data["name"]
    one.save(update_fields=["name"])
    return redirect("finish", one.pk)


@require_POST
def copy(request: HttpRequest, pk: int) -> HttpResponse:
    """Another finish of the same picture, beginning where this one is."""
    one = owned(Finish, request, pk)
    other = Finish.objects.create(
        owner=person(request),
        stack=one.stack,
        recipe=one.recipe,
        name=f"{one.title}, again"[:60],
        version=vinter.__version__,
    )
    return redirect("finish", other.pk)


def beside(request: HttpRequest, pk: int) -> HttpResponse:
    """All finishes of a picture side by side."""
    one = owned(Finish, request, pk)
    every = Finish.objects.filter(stack=one.stack).order_by("pk")
    return render(
        request, "finish/beside.html", {"finish": one, "every": every, **head("Finish", finish=one)}
    )


def names(request: HttpRequest, pk: int) -> HttpResponse:
    """Lines and names of the sky over the picture, in shares of it."""
    field = _scene(owned(Finish, request, pk)).field
    found = overlay(field) if field else Overlay([], [])
    return JsonResponse({"lines": found.lines, "names": found.names})


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
    form = checked(ExportForm(request.POST))
    wanted = form.cleaned_data
    wishes = [(one.core(), form.output)]
    if wanted["destination"]:
        wishes = [for_destination(one.core(), key) for key in wanted["destination"]]
    for recipe, how in wishes:
        made = Export.objects.create(
            owner=person(request),
            finish=one,
            recipe=recipe.model_dump(),
            kind=wanted["kind"],
            width=how.width,
            sharpening=how.sharpening,
            dpi=how.dpi,
            space=wanted["space"],
            names=wanted["names"] and not EXPORT_KINDS[wanted["kind"]].linear,
            enlarge=wanted["enlarge"],
            place=wanted["place"],
            quality=wanted["quality"] if EXPORT_KINDS[wanted["kind"]].quality else None,
        )
        enqueue(person(request), "export", made.pk)
    return redirect("finish", one.pk)


def sizes(request: HttpRequest, pk: int) -> HttpResponse:
    """How large the kept recipe's picture is in each kind, about; and where it has fewer pixels than a
    destination wants."""
    one = owned(Finish, request, pk, "stack")
    recipe, session = one.core(), edit_session.SESSIONS.of(working_copy(one.stack))
    parts = edit_session.DRAWING.submit(session.parts_of, recipe).result()
    made = made_size(recipe, session.scene)
    rows = [(kind, expected_sizes(parts, made, kind)) for kind in EXPORT_KINDS.values()]
    short = shortfalls(recipe, session.scene)
    return render(request, "finish/sizes.html", {"rows": rows, "made": made, "short": short})


def print_sheet(request: HttpRequest, pk: int) -> HttpResponse:
    """The picture on a sheet of paper with its night; ``place`` says how closely it gives the place."""
    one = owned(Finish, request, pk, "stack")
    place = request.GET.get("place", "name")
    if place not in PLACES:
        raise BadInput(f"place: {place!r} is not one of {', '.join(PLACES)}")
    text = render_to_string("finish/sheet.html", sheet(one, place))
    return HttpResponse(text, headers={"Content-Security-Policy": STANDALONE_POLICY})


def before_and_after(request: HttpRequest, pk: int) -> HttpResponse:
    """One frame as it came beside the finished picture, as one JPEG to share."""
    one = owned(Finish, request, pk, "stack")
    many = int((one.stack.report or {}).get("frames_used") or 1)
    path = one.stack.folder / "before.jpg"
    if many < 2 or not path.is_file():
        raise BadInput("before and after: this picture is no stack of frames")
    words = "one frame", f"{many} frames, stacked and finished"
    jpeg = edit_session.beside_a_frame(working_copy(one.stack), one.core(), path, words)
    name = f"vinter-before-after-{one.pk}.jpg"
    return HttpResponse(
        jpeg,
        content_type="image/jpeg",
        headers={"Content-Disposition": f'attachment; filename="{name}"'},
    )


def all_exports(request: HttpRequest, pk: int) -> FileResponse:
    """Every exported picture of a finish in one file."""
    one = owned(Finish, request, pk)
    file = tempfile.TemporaryFile()  # noqa: SIM115 - the answer closes it
    with zipfile.ZipFile(file, "w", zipfile.ZIP_STORED) as packed:
        for export in one.export_set.all():
            if export.ready:
                size = f"{export.made_width}x{export.made_height}"
                packed.write(export.path, f"vinter-{one.pk}-{size}-{export.pk}{export.suffix}")
    file.seek(0)
    return FileResponse(
        file, as_attachment=True, filename=f"vinter-finish-{one.pk}.zip", content_type="application/zip"
    )


def download(request: HttpRequest, pk: int, which: str = "full") -> FileResponse:
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
        filename=f"vinter-{one.finish.stack.take.pk}-{one.pk}{one.suffix}",
    )
