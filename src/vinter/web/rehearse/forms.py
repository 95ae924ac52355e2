"""The dials of the simulated phone, and a place in its picture."""

from collections.abc import Mapping

from django import forms


class SettingsForm(forms.Form):
    """What the phone is set to; ``mode`` is raw, or the seconds of an automatic night mode, or neither."""

    iso = forms.IntegerField(label="ISO", min_value=1, max_value=1_000_000)
    shutter = forms.FloatField(label="shutter", min_value=0.001)
    ticks = forms.IntegerField(label="focus", min_value=0, max_value=60)
    kelvin = forms.FloatField(label="white balance", min_value=2000, max_value=10000)
    mode = forms.CharField(label="mode", max_length=10)
    delay = forms.FloatField(label="delay", min_value=0, max_value=60)
    lamp = forms.FloatField(label="lamp", min_value=0, max_value=60)

    def __init__(self, longest: float, data: Mapping[str, str] | None = None) -> None:
        super().__init__(data)
        self.longest = longest

    def clean_shutter(self) -> float:
        """No longer than the lens allows."""
        shutter = float(self.cleaned_data["shutter"])
        if shutter > self.longest:
            raise forms.ValidationError(f"this lens exposes for {self.longest:g} s at most")
        return shutter


class PlaceForm(forms.Form):
    """A place in a picture, as shares of its width and height."""

    x = forms.FloatField(label="x", required=False, min_value=0, max_value=1)
    y = forms.FloatField(label="y", required=False, min_value=0, max_value=1)
