"""Sites: list, add, change."""

from django.http import HttpRequest, HttpResponse
from django.shortcuts import redirect, render

from vinter.core.sky.glow import glow
from vinter.web.chain import head
from vinter.web.owned import owned
from vinter.web.sites.forms import SiteForm
from vinter.web.sites.models import Site


def sites(request: HttpRequest) -> HttpResponse:
    """All sites of the user, with the glow of the towns around each."""
    rows = [(site, glow(site.lat, site.lon)) for site in Site.objects.filter(owner=request.user)]
    return render(request, "sites/sites.html", {"rows": rows, **head("Sites")})


def edit(request: HttpRequest, pk: int | None = None) -> HttpResponse:
    """Add a site or change one."""
    site = owned(Site, request, pk) if pk else Site(owner=request.user, tz="Europe/Lisbon")
    form = SiteForm(request.POST or None, instance=site)
    if request.method == "POST" and form.is_valid():
        form.save()
        return redirect("sites")
    return render(request, "sites/edit.html", {"form": form, "site": site, **head("Sites", site=site if site.pk else None)})
