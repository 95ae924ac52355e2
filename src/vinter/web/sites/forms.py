"""The form of a site; its bounds are the core's."""

from typing import Any
from zoneinfo import available_timezones

from django import forms

from vinter.core.errors import BadInput
from vinter.web.sites.models import Site

LABELS = {"lat": "Latitude, ° (north +)", "lon": "Longitude, ° (east +)", "elevation": "Elevation, m", "tz": "Time zone",
          "zenith": "Zenith brightness, mag/arcsec²", "extinction": "Extinction, mag/airmass", "cautions": "Cautions for the card",
          "favourite": "Show on the home page first"}


class SiteForm(forms.ModelForm):  # type: ignore[type-arg]
    """Add or change a site."""

    class Meta:
        model = Site
        fields = ["name", "lat", "lon", "elevation", "tz", "zenith", "extinction", "notes", "cautions", "favourite"]
        labels = LABELS
        help_texts = {"zenith": "From a meter; empty: taken from the towns around",
                      "extinction": "0.17 clean mountain air, 0.25–0.30 low sites"}
        widgets = {"notes": forms.Textarea({"rows": 2}), "cautions": forms.Textarea({"rows": 2}),
                   "tz": forms.TextInput({"list": "zones"})}

    def clean_tz(self) -> str:
        """Only zones this machine knows."""
        zone = str(self.cleaned_data["tz"])
        if zone not in available_timezones():
            raise forms.ValidationError(f"{zone} is not a time zone; use a name like Europe/Lisbon")
        return zone

    def clean(self) -> dict[str, Any]:
        """The core's own limits decide."""
        data = super().clean() or {}
        if not self.errors:
            try:
                Site(**{f: data.get(f) for f in ("name", "lat", "lon", "elevation", "tz", "zenith", "extinction")}).core()
            except BadInput as error:
                raise forms.ValidationError(str(error)) from error
        return data
