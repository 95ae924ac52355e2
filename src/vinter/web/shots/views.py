"""Making a shot from a night, changing it, and looking at it."""

from dataclasses import asdict, dataclass
from typing import Any

from django import forms
from django.db import transaction
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.views.decorators.http import require_POST

from vinter.core.camera.accessories import charge
from vinter.core.camera.exposure import OwnSettings
from vinter.core.camera.white_balance import balance_reason, white_balances
from vinter.core.ground.magnetic import declination
from vinter.core.planning.choices import choices
from vinter.core.planning.modes.basis import Mode
from vinter.core.planning.modes.registry import mode_of
from vinter.core.planning.picture import Picture, Wish, mode_target, plan_picture
from vinter.core.planning.shot import field_of_view
from vinter.core.sky.nights import Night, night_at
from vinter.core.sky.targets import CORE, Target, target
from vinter.core.sky.verdict import compass
from vinter.web.forms import checked
from vinter.web.gear.models import NoPhone, Phone
from vinter.web.meanwhile import changes_since, opened_with
from vinter.web.nights.drawing import draw
from vinter.web.nights.models import preferences_of
from vinter.web.owned import owned, person
from vinter.web.paging import page_of, searched, sorted_by
from vinter.web.satellites.views import next_pass
from vinter.web.shots.expected import panel
from vinter.web.shots.forms import LessonForm, MomentForm, ShotForm
from vinter.web.shots.models import OWN_SETTINGS, Shot
from vinter.web.sites.models import Site
from vinter.web.templatetags.figures import clock_24
from vinter.web.workflow import head

COLUMNS = {  # by which the list is sorted
    "title": "title",
    "night": "moment",
    "site": "site__name",
    "phone": "phone__name",
    "iso": "iso",
    "shutter": "shutter",
    "frames": "frames",
}


def shots(request: HttpRequest) -> HttpResponse:
    """All shots of the user."""
    own = Shot.objects.filter(owner=person(request)).select_related("site", "phone")
    found = searched(request, own, ("title", "site__name", "phone__name", "lens"), "night")
    page = page_of(request, sorted_by(request, found, COLUMNS))
    return render(request, "shots/shots.html", {"page": page, **head("Shot")})


# fields after whose change the figures are drawn anew
REDRAWING = ("lens", "resolution", "clip_on", "at", "use", "portrait", "iso", "shutter", "frames")


@dataclass(frozen=True)
class Planning:
    """The page on which a shot is planned: for a site and a night, a new one or one that is being changed."""

    request: HttpRequest
    site: Site
    moment: float
    what: Target
    shot: Shot | None = None

    def wish(self, form: ShotForm, moment: float, night: Night) -> Wish:
        """What the form asks for."""
        data, core = form.cleaned_data, self.site.core()
        mode = mode_of(data.get("mode") or "stack")
        return Wish(
            site=core,
            unix=moment,
            lens=form.optics().on(form.whole_lens()),
            mode=mode.key,
            options=self.options(mode),
            target=self.what,
            night=night,
            use=data["use"],
            portrait=bool(data["portrait"]),
            pose=form.pose(),
            own=OwnSettings(**form.own()),
            passing=next_pass(person(self.request), core, night, moment) if mode.needs_pass else None,
        )

    def options(self, mode: Mode) -> dict[str, str | float]:
        """The mode's options as sent, else as the shot has them."""
        given = self.request.POST if self.request.method == "POST" else self.request.GET
        kept = self.shot.options if self.shot and self.shot.mode == mode.key else {}
        return {o.key: given.get(f"o_{o.key}", kept.get(o.key, "")) for o in mode.options}

    def night(self, what: Target, moment: float) -> Night:
        """The night that holds the minute, judged for a target."""
        return night_at(self.site.core(), moment, preferences_of(person(self.request)).limits(), what)

    def start(self) -> dict[str, object]:
        """What the form opens with."""
        if self.shot is not None:
            return _fields(self.shot)
        phones = Phone.objects.filter(owner=person(self.request))
        first = phones.filter(key="marlet-7").first() or phones.first()
        assert first is not None
        return {
            "at": clock_24(self.moment, self.site.tz),
            "lens": f"{first.pk}:{next(iter(first.lenses))}",
            "use": "screen",
            "portrait": "",
            "mode": "stack",
        }

    def answer(self) -> HttpResponse:
        """The page, the figures alone while somebody types, or the shot once it is kept."""
        request, posted = self.request, self.request.method == "POST"
        opened = ShotForm(person(request), initial=self.start()) if self.shot else None
        changes: list[Any] = []
        given: Any = request.POST if posted else {**self.start(), **request.GET.dict()}
        drafting = bool(request.htmx)  # type: ignore[attr-defined]  # sent while typing, it may carry "save"
        saving = posted and "save" in request.POST and not drafting
        if opened is not None and saving:
            given, changes = changes_since(opened, request.POST)
        form = ShotForm(person(request), given)
        context: dict[str, Any] = {
            "form": form,
            "site": self.site,
            "moment": self.moment,
            "shot": self.shot,
            "target": self.what,
            "changes": changes,
            "opened_with": opened_with(opened) if opened else "",
        }
        if not form.is_valid():
            night = self.night(self.what, self.moment)
            context |= {"night": night, **head("Shot", site=self.site, day=night.day)}
            return render(request, "shots/new.html", context, status=400)
        moment = form.moment(self.site.core(), self.moment)
        night = self.night(mode_target(mode_of(form.cleaned_data.get("mode") or "stack"), self.what), moment)
        wish = self.wish(form, moment, night)
        picture = plan_picture(wish)
        if saving and not changes:
            return redirect("shot", self.save(form, picture, night).pk)
        context |= _shown(picture, form, self.site, night, wish)
        name = "shots/figures.html" if drafting else "shots/new.html"
        return render(request, name, context, status=409 if changes else 200)

    def save(self, form: ShotForm, picture: Picture, night: Night) -> Shot:
        """Keep what was planned."""
        phone, lens = form.chosen()
        one = self.shot or Shot(owner=person(self.request), site=self.site)
        one.phone, one.lens, one.night, one.use = phone, lens, night.day, form.cleaned_data["use"]
        pose = form.pose()
        one.manual_settings = {key: value for key, value in form.own().items() if value is not None}
        one.manual_settings |= {"pose": [pose.azimuth, pose.altitude, pose.roll]} if pose else {}
        one.manual_settings |= {"target": self.what.key} if self.what != picture.target else {}
        one.optics = asdict(form.optics())
        one.__dict__.pop("core_lens", None)
        one.title = form.cleaned_data["title"] or (
            f"{self.site.name}, {_short(picture.target)} in the {compass(picture.plan.at.azimuth)}"
        )
        one.take_plan(picture)
        one.save()
        return one


def _fields(shot: Shot) -> dict[str, object]:
    """A shot as the values of its form."""
    return {
        "lens": f"{shot.phone_id}:{shot.lens}",
        "resolution": shot.optics.get("resolution", ""),
        "clip_on": shot.optics.get("clip_on") if shot.optics.get("clip_on", 1) != 1 else "",
        "at": clock_24(shot.moment, shot.site.tz),
        "mode": shot.mode,
        "use": shot.use,
        "portrait": "1" if shot.portrait else "",
        **{key: shot.manual_settings.get(key, "") for key in OWN_SETTINGS},
        "title": shot.title,
        **dict(zip(("az", "up", "roll"), shot.manual_settings.get("pose", ("", "", "")), strict=True)),
    }


def _shown(picture: Picture, form: forms.Form, site: Site, night: Night, wish: Wish) -> dict[str, object]:
    """What the page shows of a planned picture."""
    assert isinstance(form, ShotForm)
    strip = draw(site.core(), night, 860, 90)
    phone, _ = form.chosen()
    return {
        "picture": picture,
        "moment": picture.start,
        "night": night,
        "plan": picture.plan,
        "north": (north := declination(site.lat, site.lon, site.elevation, picture.start)),
        "compass": north.compass(picture.plan.pose.azimuth),
        "lens": wish.lens,
        "mode": picture.mode,
        "mode_plan": asdict(picture.mode_plan),
        "redrawing": REDRAWING,
        "options": [(o, picture.options[o.key]) for o in picture.mode.options],
        "view": field_of_view(wish.lens, picture.plan.portrait),
        "strip": strip,
        "at_x": strip.x(picture.start) if strip else None,
        "charge": charge(picture.mode_plan.minutes),
        "choices": choices(wish, phone.core()) if picture.mode.of_a_frame else [],
        **_balance(picture.mode),
        **head("Shot", site=site, day=night.day),
    }


def _balance(mode: Mode) -> dict[str, object]:
    return {"balances": white_balances(mode.sequence), "balance_reason": balance_reason(mode.sequence)}


def new(request: HttpRequest, pk: int) -> HttpResponse:
    """Choose lens, kind of picture and use for a minute at a site; figures follow at once, saving keeps
    them."""
    site = owned(Site, request, pk)
    if not Phone.objects.filter(owner=person(request)).exists():
        raise NoPhone("no phone yet: add one under Gear")
    when = checked(MomentForm(request.POST if request.method == "POST" else request.GET)).cleaned_data
    return Planning(request, site, float(when["t"]), when["target"]).answer()


def change(request: HttpRequest, pk: int) -> HttpResponse:
    """Change a shot that was kept: every choice, and the minute within its night."""
    one = owned(Shot, request, pk)
    return Planning(request, one.site, one.moment, target(one.wanted_target), one).answer()


@require_POST
def plan_again(request: HttpRequest, pk: int) -> HttpResponse:
    """Plan a shot again with what is known now, choices and own settings as they were."""
    one = owned(Shot, request, pk)
    wish = one.wish
    passing = (
        next_pass(person(request), wish.site, one.found_night(), one.moment)
        if one.core_mode.needs_pass
        else None
    )
    with transaction.atomic():
        one = Shot.objects.select_for_update().get(pk=one.pk)
        one.take_plan(plan_picture(Wish(**{**vars(wish), "passing": passing})))
        one.save()
    return redirect("shot", one.pk)


def _short(what: Target) -> str:
    return "core" if what.key == CORE.key else what.name[:60]


def shot(request: HttpRequest, pk: int) -> HttpResponse:
    """A saved shot with its figures and what came of it."""
    one = owned(Shot, request, pk)
    if one.refused:
        return render(request, "shots/refused.html", {"shot": one, **head("Shot", shot=one)})
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
            "outdated": one.outdated,
            "said": one.forecast_chance,
            **_balance(one.core_mode),
            **(panel(one) if one.core_mode.of_a_frame else {}),
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
