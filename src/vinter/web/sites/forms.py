"""Forms of a site and of what is known of it; bounds are the core's."""

from math import isfinite
from zoneinfo import available_timezones

from django import forms

from vinter.core.errors import BadInput
from vinter.core.field.hazards import HAZARDS
from vinter.core.ground.coastline import Region
from vinter.core.ground.zones import zone_at
from vinter.core.sky.site import Site as CoreSite
from vinter.core.sky.site_sky import READING_SIGMA
from vinter.web.sites.models import Reading, Site, StrayLight

CLASSES = [("", "not known"), *((str(n), f"class {n}") for n in range(1, 10))]
LABELS = {
    "lat": "Latitude, ° (north +)",
    "lon": "Longitude, ° (east +)",
    "elevation": "Elevation, m",
    "tz": "Time zone",
    "zenith": "Zenith brightness, mag/arcsec²",
    "sky_class": "Class read off a map",
    "extinction": "Extinction, mag/airmass",
    "drive": "Drive from home, min",
    "access": "Access and parking",
    "permission": "Whose ground, permission",
    "cautions": "Cautions in your own words, for the card",
    "favourite": "Show on the home page first",
    "home": "This is home: drives start here",
}
MAP_LATITUDE = 85.0
LONG = ("access", "permission", "notes", "cautions")


class SiteForm(forms.ModelForm):  # type: ignore[type-arg]
    """Add or change a site."""

    sky_class = forms.TypedChoiceField(
        choices=CLASSES, coerce=int, empty_value=None, required=False, label=LABELS["sky_class"]
    )

    hazards = forms.MultipleChoiceField(
        choices=[(key, hazard.label) for key, hazard in HAZARDS.items()],
        required=False,
        widget=forms.CheckboxSelectMultiple,
        label="Known dangers, for card and pack list",
    )

    class Meta:
        model = Site
        fields = [
            "name",
            "lat",
            "lon",
            "elevation",
            "tz",
            "zenith",
            "sky_class",
            "extinction",
            "drive",
            "access",
            "permission",
            "notes",
            "hazards",
            "cautions",
            "favourite",
            "home",
        ]
        labels = LABELS
        help_texts = {
            "zenith": "known without a meter's date; readings below win",
            "tz": "empty: found from the position",
            "extinction": "0.17 clean mountain air, 0.25 to 0.30 low or humid",
            "drive": "empty: estimated from the straight line",
        }
        widgets = {name: forms.Textarea(attrs={"rows": 2}) for name in LONG} | {
            "tz": forms.TextInput(attrs={"list": "zones"})
        }

    def clean_tz(self) -> str:
        """Only zones this machine knows; found offline from the position when left empty."""
        zone = str(self.cleaned_data["tz"]).strip()
        lat, lon = self.cleaned_data.get("lat"), self.cleaned_data.get("lon")
        if not zone and lat is not None and lon is not None:
            try:
                zone = zone_at(lat, lon)
            except BadInput as error:
                raise forms.ValidationError(str(error)) from error
        if zone not in available_timezones():
            raise forms.ValidationError(f"{zone} is not a time zone; use a name like Europe/Lisbon")
        return zone

    def clean(self) -> dict[str, object]:
        """The core's own limits decide."""
        data = super().clean() or {}
        if not self.errors:
            try:
                CoreSite(
                    lat=data["lat"],
                    lon=data["lon"],
                    tz=data["tz"],
                    elevation=data["elevation"],
                    zenith=data["zenith"],
                    extinction=data["extinction"],
                )
            except BadInput as error:
                raise forms.ValidationError(str(error)) from error
        return data


class ReadingForm(forms.ModelForm):  # type: ignore[type-arg]
    """A meter's reading."""

    zenith = forms.FloatField(min_value=15, max_value=22.3, label="Reading, mag/arcsec²")
    error = forms.FloatField(
        min_value=0.01, max_value=1, label="± mag, as the meter says", initial=READING_SIGMA, required=False
    )

    def clean_error(self) -> float:
        """A usual meter's error unless said."""
        return self.cleaned_data["error"] or READING_SIGMA

    class Meta:
        model = Reading
        fields = ["day", "zenith", "error", "note"]
        labels = {"day": "Evening of", "note": "Note"}
        widgets = {"day": forms.DateInput(attrs={"type": "date"})}


class StrayLightForm(forms.ModelForm):  # type: ignore[type-arg]
    """A lamp that shines in."""

    azimuth = forms.FloatField(min_value=0, max_value=360, label="Bearing, °")

    class Meta:
        model = StrayLight
        fields = ["azimuth", "start", "end", "words"]
        labels = {"start": "On from", "end": "until", "words": "What it is"}
        widgets = {
            "start": forms.TimeInput(attrs={"type": "time"}),
            "end": forms.TimeInput(attrs={"type": "time"}),
        }


class DarkerForm(forms.Form):
    """How far a darker place may lie."""

    minutes = forms.IntegerField(label="minutes", required=False, min_value=5, max_value=300)


class BoxForm(forms.Form):
    """The region of the map in view: south, west, north and east, degrees, with commas between."""

    box = forms.CharField(label="box")

    def clean_box(self) -> Region:
        """The region, cut to the latitudes of the map."""
        try:
            south, west, north, east = (float(v) for v in self.cleaned_data["box"].split(","))
        except ValueError as error:
            raise forms.ValidationError("south, west, north and east in degrees are wanted") from error
        if not (south < north and west < east and all(map(isfinite, (south, west, north, east)))):
            raise forms.ValidationError("south must lie below north and west before east")
        return Region(max(south, -MAP_LATITUDE), west, min(north, MAP_LATITUDE), east)


class PointForm(forms.Form):
    """A point of the map."""

    lat = forms.FloatField(label="latitude", min_value=-MAP_LATITUDE, max_value=MAP_LATITUDE)
    lon = forms.FloatField(label="longitude", min_value=-720, max_value=720)


class SunFixForm(forms.Form):
    """A panorama's bearing fixed by the Sun in it: when, where in the picture, and how much it spans."""

    when = forms.DateTimeField(label="when", input_formats=["%Y-%m-%dT%H:%M", "%Y-%m-%dT%H:%M:%S"])
    x1 = forms.FloatField(label="the Sun's place")
    y1 = forms.FloatField(label="the Sun's height in the picture")
    across = forms.FloatField(label="degrees across", min_value=1, max_value=720)
    width = forms.FloatField(label="width", min_value=1)


class PointFixForm(forms.Form):
    """A panorama's bearing fixed by two known directions in it."""

    x1 = forms.FloatField(label="first place")
    azimuth1 = forms.FloatField(label="first azimuth", min_value=-360, max_value=720)
    x2 = forms.FloatField(label="second place")
    azimuth2 = forms.FloatField(label="second azimuth", min_value=-360, max_value=720)
    level = forms.FloatField(label="level line")
