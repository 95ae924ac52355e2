"""Making a shot from a night, and looking at it."""

from dataclasses import asdict, dataclass
from typing import Any

from django.db import transaction
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST

import vinter
from vinter.core.camera.accessories import charge
from vinter.core.camera.exposure import OwnSettings
from vinter.core.errors import BadInput
from vinter.core.modes.basis import MODE_PLAN, Basis, Mode, ModePlan
from vinter.core.modes.registry import mode_of, plan_mode, values
from vinter.core.shot import ShotPlan, field_of_view, plan_shot
from vinter.core.sky.nights import Night, night_at
from vinter.core.sky.targets import CORE, Target
from vinter.core.sky.verdict import compass
from vinter.web.forms import checked
from vinter.web.gear.models import Phone
from vinter.web.meanwhile import changes_since, opened_with
from vinter.web.nights.drawing import draw
from vinter.web.nights.models import preferences_of
from vinter.web.owned import owned
from vinter.web.satellites.views import next_pass
from vinter.web.shots.forms import LessonForm, MomentForm, ShotForm
from vinter.web.shots.models import Shot
from vinter.web.sites.models import Site
from vinter.web.workflow import head


def shots(request: HttpRequest) -> HttpResponse:
    """All shots of the user."""
    own = Shot.objects.filter(owner=request.user).select_related("site", "phone")
    return render(request, "shots/shots.html", {"shots": own, **head("Shot")})


REDRAWING = (
    "lens",
    "use",
    "portrait",
    "iso",
    "shutter",
    "frames",
)  # fields after whose change the figures are drawn anew


@dataclass(frozen=True)
class Draft:
    """A shot being planned: phone and lens, the core's plan, the mode with its options and its own plan."""

    phone: Phone
    lens: str
    plan: ShotPlan
    mode: Mode
    options: dict[str, float]
    mode_plan: ModePlan


def _options(request: HttpRequest, mode: Mode) -> dict[str, str | float]:
    given = request.POST if request.method == "POST" else request.GET
    return {o.key: given.get(f"o_{o.key}", "") for o in mode.options}


def _draft(request: HttpRequest, form: ShotForm, site: Site, moment: float, night: Night) -> Draft:
    phone, lens = form.chosen()
    data, core = form.cleaned_data, site.core()
    glass = phone.core().lens(lens)
    plan = plan_shot(
        core,
        moment,
        glass,
        night,
        data["use"],
        bool(data["portrait"]),
        data["frames"],
        night.what,
        form.pose(),
        OwnSettings(iso=data["iso"], shutter=data["shutter"], frames=data["frames"]),
    )
    mode = mode_of(data.get("mode") or "stack")
    basis = Basis(
        site=core,
        unix=moment,
        lens=glass,
        portrait=plan.portrait,
        pose=plan.pose,
        at=plan.at,
        exposure=plan.exposure,
        use=data["use"],
    )
    found = next_pass(request.user, core, night, moment) if mode.needs_pass else None
    given = _options(request, mode)
    return Draft(phone, lens, plan, mode, values(mode, given), plan_mode(mode.key, basis, given, found))


def new(request: HttpRequest, pk: int) -> HttpResponse:
    """Choose lens, kind of picture and use for a minute at a site; figures follow at once, saving keeps
    them."""
    site = owned(Site, request, pk)
    when = checked(MomentForm(request.POST if request.method == "POST" else request.GET)).cleaned_data
    moment = float(when["t"])
    night = night_at(site.core(), moment, preferences_of(request.user).limits(), when["target"])
    first = (
        Phone.objects.filter(owner=request.user, key="marlet-7").first()
        or Phone.objects.filter(owner=request.user).first()
    )
    if first is None:
        raise BadInput("no phone yet: add one under Gear")
    start: dict[str, Any] = {
        "lens": f"{first.pk}:{next(iter(first.lenses))}",
        "use": "screen",
        "portrait": "",
        "mode": "stack",
    }
    given = request.POST if request.method == "POST" else {**start, **request.GET.dict()}
    form = ShotForm(request.user, given)
    if not form.is_valid():
        return render(
            request,
            "shots/new.html",
            {
                "form": form,
                "site": site,
                "moment": moment,
                "night": night,
                **head("Shot", site=site, day=night.day),
            },
            status=400,
        )
    draft = _draft(request, form, site, moment, night)
    drafting = bool(request.htmx)  # type: ignore[attr-defined]  # sent while typing, it may carry "save" too
    if request.method == "POST" and "save" in request.POST and not drafting:
        return redirect("shot", _save(request, site, moment, night, draft, form.cleaned_data).pk)
    glass = draft.phone.core().lens(draft.lens)
    strip = draw(site.core(), night, 860, 90)
    context = {
        "form": form,
        "site": site,
        "moment": moment,
        "night": night,
        "draft": draft,
        "plan": draft.plan,
        "lens": glass,
        "mode": draft.mode,
        "mode_plan": asdict(draft.mode_plan),
        "redrawing": REDRAWING,
        "options": [(o, draft.options[o.key]) for o in draft.mode.options],
        "view": field_of_view(glass, draft.plan.portrait),
        "strip": strip,
        "at_x": strip.x(moment) if strip else None,
        "charge": charge(draft.mode_plan.minutes),
        **head("Shot", site=site, day=night.day),
    }
    return render(request, "shots/figures.html" if drafting else "shots/new.html", context)


def _short(what: Target) -> str:
    return "core" if what.key == CORE.key else what.name[:60]


def _save(
    request: HttpRequest, site: Site, moment: float, night: Night, draft: Draft, data: dict[str, Any]
) -> Shot:
    found, plan = draft.mode_plan, draft.plan
    return Shot.objects.create(
        owner=request.user,
        site=site,
        phone=draft.phone,
        lens=draft.lens,
        night=night.day,
        moment=moment,
        use=data["use"],
        target=night.what.key,
        mode=draft.mode.key,
        options=draft.options,
        mode_plan=MODE_PLAN.stamped(asdict(found)),
        portrait=plan.portrait,
        iso=data["iso"] or found.iso,
        shutter=data["shutter"] or found.shutter,
        frames=data["frames"] or found.frames,
        plan=plan.data(),
        version=vinter.__version__,
        title=data["title"] or f"{site.name}, {_short(night.what)} in the {compass(plan.at.azimuth)}",
    )


def shot(request: HttpRequest, pk: int) -> HttpResponse:
    """A saved shot with its figures and what came of it."""
    one = owned(Shot, request, pk)
    night = one.found_night()
    strip = draw(one.site.core(), night, 860, 90)
    return render(
        request,
        "shots/shot.html",
        {
            "shot": one,
            "night": night,
            "strip": strip,
            "at_x": strip.x(one.moment) if strip else None,
            "lens": one.core_lens,
            "takes": one.take_set.all(),
            "mode": one.core_mode,
            "mode_plan": one.mode_plan,
            "charge": charge(one.minutes),
            **head("Shot", shot=one),
        },
    )


@require_POST
def lesson(request: HttpRequest, pk: int) -> HttpResponse:
    """Keep what to do differently next time."""
    owned(Shot, request, pk)
    with transaction.atomic():
        one = Shot.objects.select_for_update().get(pk=pk)
        fresh = LessonForm(instance=one)
        data, changes = changes_since(fresh, request.POST)
        form, opened = LessonForm(data, instance=one), opened_with(fresh)
        if form.is_valid() and not changes:
            form.save()
            return redirect("ledger")
    context = {"shot": one, "form": form, "changes": changes, "opened_with": opened}
    return render(
        request, "ledger/lesson.html", {**context, **head("Ledger", shot=one)}, status=409 if changes else 400
    )
