"""What an export asks for."""

from django import forms

from vinter.core.finish.destinations import DESTINATIONS, FOR_PRINT, FOR_SCREEN, print_width
from vinter.core.finish.export import (
    EXPORT_KINDS,
    LEAST_DPI,
    LEAST_QUALITY,
    MOST_DPI,
    MOST_QUALITY,
    NARROWEST,
    WIDEST,
    Output,
)
from vinter.core.formats.icc import COLOUR_SPACES, SRGB
from vinter.web.finish.edit_session import SHOWS, View

PRINT_DPI = 300.0
MOST_PART = 2400  # px of a part shown at full size
WIDEST_SCREEN = 16000  # px


class ViewForm(forms.Form):
    """What of the picture is to be drawn."""

    size = forms.ChoiceField(choices=[("draft", "draft"), ("full", "full")], required=False)
    wide = forms.IntegerField(min_value=16, max_value=WIDEST_SCREEN, required=False)
    before = forms.BooleanField(required=False)
    show = forms.ChoiceField(choices=[(s, s) for s in SHOWS], required=False)
    x = forms.FloatField(min_value=0, max_value=1, required=False)
    y = forms.FloatField(min_value=0, max_value=1, required=False)
    w = forms.IntegerField(min_value=16, max_value=MOST_PART, required=False)
    h = forms.IntegerField(min_value=16, max_value=MOST_PART, required=False)

    @property
    def view(self) -> View:
        """The same for the session."""
        d = self.cleaned_data
        part = None not in (d["x"], d["y"], d["w"], d["h"])
        return View(
            draft=d["size"] == "draft",
            wide=d["wide"] or 0,
            middle=(d["x"], d["y"]) if part else None,
            size=(d["w"], d["h"]) if part else (0, 0),
            show=d["show"],
        )


class PickForm(forms.Form):
    """A place of the picture, in shares, that is to come out grey."""

    x = forms.FloatField(min_value=0, max_value=1)
    y = forms.FloatField(min_value=0, max_value=1)


class NameForm(forms.Form):
    """What a finish or a look is called."""

    name = forms.CharField(max_length=60, label="Name")


class ExportForm(forms.Form):
    """Kind of picture, width when it is to be reduced, and where it goes, which sets ratio and width."""

    kind = forms.ChoiceField(label="kind", choices=[(key, kind.label) for key, kind in EXPORT_KINDS.items()])
    width = forms.IntegerField(
        label="Width, px",
        required=False,
        min_value=NARROWEST,
        max_value=WIDEST,
        widget=forms.TextInput(attrs={"inputmode": "numeric", "pattern": "[0-9]*", "placeholder": "full"}),
    )
    centimetres = forms.FloatField(
        label="printed, cm wide",
        required=False,
        min_value=1,
        max_value=300,
        widget=forms.TextInput(attrs={"inputmode": "decimal", "size": 4}),
    )
    dpi = forms.FloatField(
        label="at dpi",
        required=False,
        initial=PRINT_DPI,
        min_value=LEAST_DPI,
        max_value=MOST_DPI,
        widget=forms.TextInput(attrs={"inputmode": "numeric", "size": 4}),
    )
    space = forms.ChoiceField(label="colours", required=False, choices=list(COLOUR_SPACES.items()))
    names = forms.BooleanField(label="lines, names and a scale over the sky", required=False)
    enlarge = forms.BooleanField(label="enlarge where the picture has fewer pixels", required=False)
    place = forms.BooleanField(label="say in the file where it was taken", required=False)
    quality = forms.IntegerField(
        label="Quality",
        required=False,
        min_value=LEAST_QUALITY,
        max_value=MOST_QUALITY,
        widget=forms.TextInput(
            attrs={"inputmode": "numeric", "pattern": "[0-9]*", "placeholder": "usual", "size": 4}
        ),
    )
    destination = forms.MultipleChoiceField(
        label="For",
        required=False,
        choices=[(key, found.name) for key, found in DESTINATIONS.items()],
        widget=forms.CheckboxSelectMultiple,
    )

    def clean_space(self) -> str:
        """sRGB unless said."""
        return self.cleaned_data["space"] or SRGB

    @property
    def output(self) -> Output:
        """Size, density and sharpening: of a print by its centimetres, else by its width."""
        d = self.cleaned_data
        if d["centimetres"]:
            dpi = d["dpi"] or PRINT_DPI
            return Output(width=print_width(d["centimetres"], dpi), dpi=dpi, sharpening=FOR_PRINT)
        return Output(width=d["width"], sharpening=FOR_SCREEN if d["width"] else 0.0)
