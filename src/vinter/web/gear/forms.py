"""The form of a lens; bounds are the core's."""

from collections.abc import Mapping
from dataclasses import asdict
from typing import Any

from django import forms

from vinter.core.camera.phonefile import lens_from
from vinter.core.camera.phones import Lens
from vinter.core.errors import BadInput
from vinter.core.versions import Data

UNKNOWN = (0.0, 0.0, 0.0)
CORNER_STEP = 0.011  # mag: what the form rounds by is no change
USUAL_SHAPE, BY_HAND_ERROR = (0.6, 0.4), 0.15  # parts of r^2 and r^4, and mag of a figure by hand


class LensForm(forms.Form):
    """Figures of one lens, in the pixels of the RAW file it writes."""

    name = forms.CharField(max_length=40, label="Lens")
    focal = forms.FloatField(label="True focal length, mm")
    f35 = forms.FloatField(label="35 mm equivalent, mm")
    aperture = forms.FloatField(label="f-number")
    pitch = forms.FloatField(label="Pixel pitch, µm")
    width = forms.IntegerField(label="Pixels across")
    height = forms.IntegerField(label="Pixels down")
    binning = forms.IntegerField(label="Sensor pixels binned, a side", min_value=1, max_value=4, initial=1)
    bits = forms.TypedChoiceField(
        choices=[(n, f"{n} bit") for n in (8, 10, 12, 14)], coerce=int, label="RAW", initial=10
    )
    iso_min = forms.IntegerField(label="Lowest ISO", initial=50)
    iso_max = forms.IntegerField(label="Highest ISO", initial=3200)
    iso_manual = forms.IntegerField(label="Manual control up to ISO (0: all)", min_value=0, initial=0)
    iso_digital = forms.IntegerField(label="Only multiplies from ISO (0: not known)", min_value=0, initial=0)
    shutter_max = forms.FloatField(label="Longest shutter, s", initial=30)
    raw_megabytes = forms.FloatField(label="A RAW file, MB", min_value=0.5, max_value=500, initial=14)
    manual = forms.BooleanField(required=False, initial=True, label="Can be set by hand")
    infinity_ticks = forms.IntegerField(
        label="Infinity: ticks back from the end mark", min_value=0, max_value=200, initial=0
    )
    infinity_known = forms.BooleanField(required=False, label="Infinity was found there")
    distortion = forms.FloatField(
        label="Distortion in the corner, % (barrel −)", min_value=-15, max_value=15, initial=0
    )
    corners = forms.FloatField(
        label="Corners darker in the RAW, mag (0: not known)", min_value=-1, max_value=2.5, initial=0
    )

    def clean(self) -> Data:
        """The core's own limits decide."""
        data = super().clean() or {}
        if not self.errors:
            corners = data.pop("corners")
            fall_off = self.kept.get("fall_off", UNKNOWN)
            if abs(corners - sum(fall_off[:2])) > CORNER_STEP:
                square, fourth = (corners * share for share in USUAL_SHAPE)
                fall_off = (square, fourth, BY_HAND_ERROR if corners else 0.0)
            figures = {**self.kept, **data, "distortion": data["distortion"] / 100, "fall_off": fall_off}
            try:
                self.lens = lens_from(figures)
            except BadInput as error:
                raise forms.ValidationError(str(error)) from error
        return data

    kept: dict[str, Any] = {}
    lens: Lens


def lens_form(data: Mapping[str, str] | None, lens: Lens | None) -> LensForm:
    """The form of a lens or of a new one; what it does not show (measured figures) is kept."""
    start = asdict(lens) if lens else {}
    shown = {"distortion": 100 * lens.distortion, "corners": round(sum(lens.fall_off[:2]), 2)} if lens else {}
    form = LensForm(data, initial={**start, **shown} if start else None)
    form.kept = {k: v for k, v in start.items() if k not in form.fields}
    return form


class HoldingForm(forms.Form):
    """Phone and clamp, in mm; buttons as bands along the side."""

    width = forms.FloatField(label="Phone with its case, wide", min_value=40, max_value=130)
    narrowest = forms.FloatField(label="Clamp opens from", min_value=10, max_value=130, initial=60)
    widest = forms.FloatField(label="Clamp opens to", min_value=20, max_value=200, initial=90)
    jaw_from = forms.FloatField(
        label="Jaws cover, from the phone's end", min_value=0, max_value=200, initial=60
    )
    jaw_to = forms.FloatField(label="… to", min_value=1, max_value=220, initial=85)
    buttons = forms.CharField(
        label="Side buttons, from the same end (70-80, 95-105)", max_length=80, required=False
    )

    def clean_buttons(self) -> list[tuple[float, float]]:
        """Bands of numbers."""
        out = []
        for band in filter(None, (part.strip() for part in self.cleaned_data["buttons"].split(","))):
            low, _, high = band.partition("-")
            try:
                out.append((float(low), float(high)))
            except ValueError as error:
                raise forms.ValidationError(f"“{band}” is not a band like 70-80") from error
            if not 0 <= out[-1][0] < out[-1][1] <= 250:
                raise forms.ValidationError(f"“{band}” must rise, within 0 to 250 mm")
        return out

    def clean(self) -> Data:
        """What opens from must lie under what it opens to."""
        data = super().clean() or {}
        for low, high in (("narrowest", "widest"), ("jaw_from", "jaw_to")):
            if low in data and high in data and data[low] >= data[high]:
                self.add_error(high, "must be more than the figure before it")
        return data


def holding_form(data: Mapping[str, str] | None, stored: Data) -> HoldingForm:
    """The form of a phone's clamp, with what is stored."""
    words = ", ".join(f"{low:g}-{high:g}" for low, high in stored.get("buttons", []))
    return HoldingForm(data, initial={**stored, "buttons": words} if stored else None)
