"""The first page of a new person: three questions, answered by a night."""

from collections.abc import Mapping
from urllib.parse import urlencode

from django import forms
from django.contrib.auth.models import User
from django.db import transaction
from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render
from django.urls import reverse

from vinter.core.camera.phones import SHIPPED
from vinter.core.ground.gazetteer import FoundPlace, find_places
from vinter.core.ground.zones import zone_at
from vinter.core.sky.targets import CORE
from vinter.web.gear.models import Phone, own
from vinter.web.owned import person
from vinter.web.sites.models import Site
from vinter.web.workflow import head

WISHES = (
    (CORE.key, "the core of the Milky Way"),
    ("band:80", "the summer band, Cygnus"),
    ("band:180", "the winter band, Orion"),
    ("pole", "star trails round the pole"),
)
LATER = "later"


class BeginForm(forms.Form):
    """Where, with what, and what of."""

    place = forms.CharField(
        label="Where are you?",
        max_length=120,
        help_text="A town near by, or latitude and longitude as 37.70, -8.77",
        widget=forms.TextInput(attrs={"autofocus": True, "autocomplete": "off"}),
    )
    which = forms.ChoiceField(label="Which of these?", required=False, widget=forms.RadioSelect)
    phone = forms.ChoiceField(label="Which phone?")
    target = forms.ChoiceField(label="What do you want to photograph?", choices=WISHES)

    def __init__(self, user: User, data: Mapping[str, str] | None = None) -> None:
        super().__init__(data)
        self.auto_id = "begin-%s"
        mine = [(f"own:{p.pk}", p.name) for p in Phone.objects.filter(owner=user)]
        usual = [(p.key, p.name) for p in SHIPPED.values()]
        phone, which = self.fields["phone"], self.fields["which"]
        assert isinstance(phone, forms.ChoiceField) and isinstance(which, forms.ChoiceField)
        phone.choices = [*mine, *usual, (LATER, "another one: I add its figures later")]
        self.found = self._places()
        which.choices = [(str(i), said(p)) for i, p in enumerate(self.found)]
        if len(self.found) < 2:
            del self.fields["which"]

    def _places(self) -> list[FoundPlace]:
        """The places that what was typed can mean."""
        text = str(self.data.get("place", "")).strip() if self.is_bound else ""
        at = coordinates(text)
        return [FoundPlace(text, "", *at, people=0)] if at else find_places(text)

    def clean(self) -> dict[str, object]:
        """A place that is known; of several the one that was chosen, or the only one of exactly that name."""
        data = super().clean() or {}
        if "place" in data and not self.found:
            self.add_error(
                "place",
                "No place of more than 500 people has that name: try the nearest town, or coordinates.",
            )
        elif "which" in self.fields and not data.get("which"):
            exact = [p for p in self.found if p.name.casefold() == data.get("place", "").strip().casefold()]
            if len(exact) == 1:
                data["which"] = str(self.found.index(exact[0]))
            elif "place" in data:
                self.add_error("which", "Several places are called so.")
        return data

    @property
    def chosen(self) -> FoundPlace:
        """The place."""
        return self.found[int(self.cleaned_data.get("which") or 0)]


def said(place: FoundPlace) -> str:
    """A place in words."""
    if not place.country:
        return place.name
    return f"{place.name}, {place.country} ({place.lat:.2f}, {place.lon:.2f})"


def coordinates(text: str) -> tuple[float, float] | None:
    """Latitude and longitude that somebody typed; None for anything else."""
    text = text.replace(";", ",")
    parts = text.split(",") if "," in text else text.split()
    try:
        lat, lon = (float(p.strip().rstrip("°")) for p in parts)
    except ValueError:
        return None
    return (lat, lon) if abs(lat) <= 90 and abs(lon) <= 180 else None


def begin(request: HttpRequest) -> HttpResponse:
    """Three questions; the answer is the next good night there."""
    form = BeginForm(person(request), request.POST if request.method == "POST" else None)
    if not (request.method == "POST" and form.is_valid()):
        return render(request, "home/begin.html", {"form": form, **head("", context="The first night")})
    place, wanted = form.chosen, form.cleaned_data
    with transaction.atomic():
        site = Site.objects.create(
            owner=person(request),
            name=place.name[:80],
            lat=place.lat,
            lon=place.lon,
            tz=zone_at(place.lat, place.lon),
            home=not Site.objects.filter(owner=person(request), home=True).exists(),
        )
        if wanted["phone"] in SHIPPED:
            own(person(request), SHIPPED[wanted["phone"]])
    query = urlencode({"site": site.pk, "target": wanted["target"]})
    return redirect(f"{reverse('next-night')}?{query}")
