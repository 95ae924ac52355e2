"""Takes that nobody planned: where and with what they were shot, and one take for each night, camera and
lens."""

import os
from collections.abc import Mapping
from pathlib import Path
from zoneinfo import available_timezones

import numpy as np
import numpy.typing as npt
from django import forms
from django.db import transaction
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect
from django.views.decorators.http import require_POST

from vinter.core.errors import BadInput
from vinter.core.frames.metadata import camera_name
from vinter.core.ground.zones import zone_at
from vinter.core.sky.ephemeris import separation
from vinter.web.forms import checked
from vinter.web.gear.models import Phone
from vinter.web.owned import owned
from vinter.web.sites.models import Site
from vinter.web.takes.models import Frame, Take

KM_A_DEGREE = 111.19
NEAR_KM = 4.0  # km from a site within which frames with a place are taken for its own
HERE = "here"  # choice of a new site where the frames say


class OriginForm(forms.Form):
    """Where a take was shot and with what."""

    site = forms.ChoiceField(label="Shot at", required=False)
    phone = forms.ChoiceField(label="with", required=False)
    zone = forms.CharField(label="clock set to", required=False, max_length=40)
    fast_s = forms.FloatField(label="fast by, s", required=False, min_value=-86400, max_value=86400)
    f35 = forms.FloatField(label="lens, mm equivalent", required=False, min_value=4, max_value=1000)

    def __init__(self, take: Take, data: Mapping[str, str] | None = None) -> None:
        super().__init__(data)
        self.auto_id = "origin-%s"
        self.take = take
        sites = [("", "not known"), *((str(s.pk), s.name) for s in Site.objects.filter(owner=take.owner_id))]
        if take.place:
            sites.append((HERE, f"a new site at {take.place[0]:.3f}, {take.place[1]:.3f}, as the files say"))
        phones = [(str(p.pk), p.name) for p in Phone.objects.filter(owner=take.owner_id)]
        for name, choices in (("site", sites), ("phone", [("", "not known"), *phones])):
            field = self.fields[name]
            assert isinstance(field, forms.ChoiceField)
            field.choices = choices
        self.initial.setdefault("site", str(take.own_site_id or ""))
        self.initial.setdefault("phone", str(take.own_phone_id or ""))
        for name, value in take.corrected.items():
            self.initial.setdefault(name, value or "")
        for name, size, hint in (("zone", 16, "Europe/Lisbon"), ("fast_s", 5, "0"), ("f35", 4, "26")):
            self.fields[name].widget.attrs |= {"size": size, "placeholder": hint}

    def clean_zone(self) -> str:
        """The name of a zone, or nothing."""
        name = str(self.cleaned_data["zone"]).strip()
        if name and name not in available_timezones():
            raise forms.ValidationError(f"{name!r} is not a time zone like Europe/Lisbon")
        return name

    def keep(self) -> None:
        """Store it; a new site is made where the files say, named after the take."""
        take, wanted = self.take, self.cleaned_data
        if wanted["site"] == HERE:
            assert take.place is not None
            lat, lon = take.place
            take.own_site = Site.objects.create(
                owner=take.owner, name=take.title[:80], lat=lat, lon=lon, tz=zone_at(lat, lon)
            )
        else:
            take.own_site_id = int(wanted["site"]) if wanted["site"] else None
        take.own_phone_id = int(wanted["phone"]) if wanted["phone"] else None
        take.corrected = {
            "zone": wanted["zone"],
            "fast_s": wanted["fast_s"] or 0.0,
            "f35": wanted["f35"],
        }
        take.save(update_fields=["own_site", "own_phone", "corrected"])
        Take.objects.get(pk=take.pk).settle_times()


@require_POST
def origin(request: HttpRequest, pk: int) -> HttpResponse:
    """Say where an unplanned take was shot, and with what."""
    take = owned(Take, request, pk)
    if take.shot:
        raise BadInput(f"{take.title}: it belongs to a shot, which says where it was")
    checked(OriginForm(take, request.POST)).keep()
    return redirect("take", take.pk)


@require_POST
def split(request: HttpRequest, pk: int) -> HttpResponse:
    """A take for each night, camera and lens of an unplanned one."""
    take = owned(Take, request, pk)
    split_apart(take)
    return redirect("takes")


def find_origin(take: Take) -> None:
    """The site near which an unplanned take's frames say they were shot, and the phone whose name they carry;
    what is known already stays."""
    if take.shot:
        return
    if take.own_site is None and take.place:
        sites = list(Site.objects.filter(owner=take.owner_id))
        away = [KM_A_DEGREE * float(separation(*_flat(s, take.place))) for s in sites]
        if away and min(away) < NEAR_KM:
            take.own_site = sites[away.index(min(away))]
    if take.own_phone is None:
        measures = [f.measure or {} for f in take.frame_set.all()]
        named = {m.get("model", "").lower() for m in measures}
        named |= {camera_name(m.get("make", ""), m.get("model", "")).lower() for m in measures}
        own = Phone.objects.filter(owner=take.owner_id)
        take.own_phone = next((p for p in own if p.name.lower() in named - {""}), None)
    take.save(update_fields=["own_site", "own_phone"])
    Take.objects.get(pk=take.pk).settle_times()


def _flat(site: Site, place: tuple[float, float]) -> list[npt.NDArray[np.float64]]:
    return [np.asarray(v, float) for v in (site.lat, site.lon, *place)]


def split_apart(take: Take) -> list[Take]:
    """One take for each night, camera and lens of an unplanned one, which keeps the first of them.

    Originals and their pictures go along; BadInput where there is one only, or stacks were made of it.
    """
    if take.shot:
        raise BadInput(f"{take.title}: it belongs to a shot, and so to one night")
    if take.stack_set.exists():
        raise BadInput(f"{take.title}: stacks were made of it, so its frames stay together")
    groups = take.groups()
    if len(groups) < 2:
        raise BadInput(f"{take.title}: all its frames are of one night, camera and lens")
    (first, _), *others = groups.items()
    out = [take]
    for label, frames in others:
        other = Take.objects.create(
            owner=take.owner,
            kind=take.kind,
            title=f"{take.title}, {label}"[:120],
            own_site=take.own_site,
            own_phone=take.own_phone,
        )
        other.previews.mkdir(parents=True, exist_ok=True)
        old = [path for f in frames for path in f.files()]
        for path in old:
            if path.is_file():
                os.link(path, _there(path, take, other))
        with transaction.atomic():
            Frame.objects.filter(pk__in=[f.pk for f in frames]).update(take=other)
        for path in old:
            path.unlink(missing_ok=True)
        out.append(other)
    take.title = f"{take.title}, {first}"[:120]
    take.save(update_fields=["title"])
    return out


def _there(path: Path, one: Take, other: Take) -> Path:
    return other.folder / path.relative_to(one.folder)
