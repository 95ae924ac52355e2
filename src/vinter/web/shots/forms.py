"""The form of a shot: the choices that are the photographer's."""

from typing import Any

from django import forms

from vinter.web.gear.models import Phone

USES = [("post", "Phone-sized post (8 px of trail)"), ("screen", "Large screen (4 px)"), ("print", "Print (2 px)")]


class ShotForm(forms.Form):
    """Phone and lens, use, orientation; ISO, shutter and frames may overrule the advice."""

    lens = forms.ChoiceField(label="Phone and lens")
    use = forms.ChoiceField(choices=USES, label="The picture is for")
    portrait = forms.ChoiceField(choices=[("", "Landscape"), ("1", "Portrait")], required=False, label="Held")
    iso = forms.IntegerField(min_value=10, max_value=102400, required=False, label="ISO")
    shutter = forms.FloatField(min_value=0.01, max_value=3600, required=False, label="Shutter, s")
    frames = forms.IntegerField(min_value=1, max_value=400, required=False, label="Frames")
    title = forms.CharField(max_length=120, required=False, label="Title")

    def __init__(self, owner: Any, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.phones = {p.pk: p for p in Phone.objects.filter(owner=owner)}
        self.fields["lens"].choices = [  # type: ignore[attr-defined]
            (f"{p.pk}:{name}", f"{p.name}, {name}") for p in self.phones.values() for name in p.lenses]

    def chosen(self) -> tuple[Phone, str]:
        """The phone and the lens's name."""
        pk, _, name = str(self.cleaned_data["lens"]).partition(":")
        return self.phones[int(pk)], name


