"""Places looked up by name, and where the first map opens."""

from django import forms
from django.http import HttpRequest, HttpResponse, JsonResponse
from django.shortcuts import render

from vinter.core.ground.gazetteer import find_places, zone_places
from vinter.web.forms import checked
from vinter.web.owned import person
from vinter.web.sites.models import Site


class NameForm(forms.Form):
    """A name, or the beginning of one."""

    place = forms.CharField(max_length=80, required=False, label="a place's name")


class ZoneForm(forms.Form):
    """A time zone as a browser names it."""

    tz = forms.CharField(max_length=60, label="a time zone")


def search(request: HttpRequest) -> HttpResponse:
    """Places of a name, with how far they lie from home."""
    name = checked(NameForm(request.GET)).cleaned_data["place"]
    own = Site.objects.filter(owner=person(request)).order_by("-home", "-favourite", "name").first()
    found = find_places(name, (own.lat, own.lon) if own else None)
    return render(request, "sites/places.html", {"places": found, "name": name, "from": own})


def zone_place(request: HttpRequest) -> JsonResponse:
    """Where a time zone's chief place lies; nothing for a zone that is on no table."""
    at = zone_places().get(checked(ZoneForm(request.GET)).cleaned_data["tz"])
    return JsonResponse({} if at is None else {"lat": at[0], "lon": at[1]})
