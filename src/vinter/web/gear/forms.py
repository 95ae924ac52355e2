"""The form of a lens; bounds are the core's."""

from dataclasses import asdict
from typing import Any

from django import forms

from vinter.core.camera.phonefile import lens_from
from vinter.core.camera.phones import Lens
from vinter.core.errors import BadInput


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
    manual = forms.BooleanField(required=False, initial=True, label="Can be set by hand")
    infinity_ticks = forms.IntegerField(
        label="Infinity: ticks back from the end mark", min_value=0, max_value=200, initial=0
    )
    infinity_known = forms.BooleanField(required=False, label="Infinity was found there")
    distortion = forms.FloatField(
        label="Distortion in the corner, % (barrel −)", min_value=-15, max_value=15, initial=0
    )

    def clean(self) -> dict[str, Any]:
        """The core's own limits decide."""
        data = super().clean() or {}
        if not self.errors:
            try:
                self.lens = lens_from({**self.kept, **data, "distortion": data["distortion"] / 100})
            except BadInput as error:
                raise forms.ValidationError(str(error)) from error
        return data

    kept: dict[str, Any] = {}
    lens: Lens


def lens_form(data: Any, lens: Lens | None) -> LensForm:
    """The form of a lens or of a new one; what it does not show (measured figures) is kept."""
    start = asdict(lens) if lens else {}
    form = LensForm(data, initial={**start, "distortion": 100 * start["distortion"]} if start else None)
    form.kept = {k: v for k, v in start.items() if k not in form.fields}
    return form
