"""The phones and what their lenses can do."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import render

from vinter.web.chain import head
from vinter.web.gear.models import Phone


def phones(request: HttpRequest) -> HttpResponse:
    """All phones of the user with the figures of their lenses."""
    own = [(phone, phone.core()) for phone in Phone.objects.filter(owner=request.user)]
    return render(request, "gear/phones.html", {"phones": own, **head("Gear")})
