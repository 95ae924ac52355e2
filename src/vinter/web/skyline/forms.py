"""What the addresses of the skyline and of where to stand ask for."""

from django import forms

from vinter.core.planning.stand import Subject, Wanted, destination
from vinter.core.planning.standing import Here
from vinter.web.forms import UnixTimeField

NARROWEST, WIDEST = 30.0, 360.0
USUAL_ERROR = 10.0  # m by which a position is off when nothing is said of it
LOW, HIGH = -8.0, 90.0  # degrees of altitude that a view can show


class StandForm(forms.Form):
    """The subject, by position or by bearing and distance from the site, and how it shall look."""

    lat = forms.FloatField(label="Subject latitude, °", required=False, min_value=-90, max_value=90)
    lon = forms.FloatField(label="Subject longitude, °", required=False, min_value=-180, max_value=180)
    bearing = forms.FloatField(
        label="or bearing from the site, °", required=False, min_value=0, max_value=360
    )
    metres = forms.FloatField(label="and distance, m", required=False, min_value=1, max_value=20000)
    height = forms.FloatField(label="Subject height, m", min_value=0.2, max_value=2000)
    base = forms.FloatField(
        label="Its foot above the stand, m", required=False, min_value=-500, max_value=3000
    )
    eye = forms.FloatField(label="Phone above ground, m", required=False, min_value=0.05, max_value=30)
    gap = forms.FloatField(label="Target above its top, °", required=False, min_value=-30, max_value=80)
    share = forms.FloatField(label="Subject fills of the frame, %", required=False, min_value=1, max_value=95)
    farthest = forms.FloatField(label="Stand within, m", required=False, min_value=5, max_value=20000)

    here_lat = forms.FloatField(label="You stand at latitude, °", required=False, min_value=-90, max_value=90)
    here_lon = forms.FloatField(
        label="You stand at longitude, °", required=False, min_value=-180, max_value=180
    )
    here_error = forms.FloatField(label="known to ± m", required=False, min_value=0.1, max_value=100_000)

    def clean(self) -> dict[str, object]:
        """A place for the subject, and at least one wish about its look."""
        data = super().clean() or {}
        by_position = data.get("lat") is not None and data.get("lon") is not None
        if not by_position and (data.get("bearing") is None or data.get("metres") is None):
            raise forms.ValidationError(
                "Say where the subject stands: latitude and longitude, or bearing and distance from the site."
            )
        if data.get("gap") is None and data.get("share") is None:
            raise forms.ValidationError(
                "Say how high the target shall stand over the subject, how much of the frame it fills, or "
                "both."
            )
        return data

    def subject(self, lat: float, lon: float) -> Subject:
        """The subject, seen from a site at a position."""
        data = self.cleaned_data
        at: tuple[float, float] = (
            (data["lat"], data["lon"])
            if data["lat"] is not None and data["lon"] is not None
            else destination(lat, lon, data["bearing"], data["metres"])
        )
        return Subject(*at, data["height"], data["base"] or 0.0)

    def here(self) -> Here | None:
        """Where the phone is; None when that is not given."""
        data = self.cleaned_data
        if data["here_lat"] is None or data["here_lon"] is None:
            return None
        return Here(data["here_lat"], data["here_lon"], data["here_error"] or USUAL_ERROR)

    def wanted(self) -> Wanted:
        """How it shall look."""
        data = self.cleaned_data
        share = None if data["share"] is None else data["share"] / 100
        return Wanted(data["gap"], share, data["eye"] or 1.5, farthest=data["farthest"] or 3000.0)


class SkylineForm(forms.Form):
    """Minute, pose and view; what is left out follows from the target."""

    t = UnixTimeField(label="t", required=False)
    az = forms.FloatField(label="az", required=False, min_value=-360, max_value=720)
    up = forms.FloatField(label="up", required=False, min_value=-60, max_value=90)
    roll = forms.FloatField(label="roll", required=False, min_value=-180, max_value=180)
    span = forms.FloatField(label="span", required=False, min_value=NARROWEST, max_value=WIDEST)
    centre = forms.FloatField(label="centre", required=False, min_value=-360, max_value=720)


class SkyForm(forms.Form):
    """Upper edge and width of the picture behind the drawing."""

    high = forms.FloatField(label="high", required=False, min_value=LOW + 5, max_value=HIGH)
    width = forms.IntegerField(label="width", required=False, min_value=100, max_value=2400)
