"""What an export asks for."""

from django import forms

from vinter.core.finish.destinations import DESTINATIONS
from vinter.core.finish.export import EXPORT_KINDS, NARROWEST, WIDEST


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
    destination = forms.MultipleChoiceField(
        label="For",
        required=False,
        choices=[(key, found.name) for key, found in DESTINATIONS.items()],
        widget=forms.CheckboxSelectMultiple,
    )
