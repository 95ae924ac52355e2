"""The form of a shot: the choices that are the photographer's."""

from typing import Any

from django import forms

from vinter.core.camera.exposure import USES, OwnSettings
from vinter.core.camera.projection import Pose
from vinter.core.errors import BadInput
from vinter.core.modes.registry import MODES
from vinter.web.forms import UnixTimeField
from vinter.web.gear.models import Phone
from vinter.web.nights.forms import TargetField
from vinter.web.shots.models import Shot


class MomentForm(forms.Form):
    """The minute a shot is planned for, and its target."""

    t = UnixTimeField(label="the minute")
    target = TargetField(label="target", required=False)


class ShotForm(forms.Form):
    """Phone and lens, use, orientation; ISO, shutter and frames may overrule the advice."""

    lens = forms.ChoiceField(label="Phone and lens")
    mode = forms.ChoiceField(
        choices=[(m.key, m.name) for m in MODES.values()], required=False, label="What kind of picture"
    )
    use = forms.ChoiceField(
        choices=[(key, use.label) for key, use in USES.items()], label="The picture is for"
    )
    portrait = forms.ChoiceField(choices=[("", "Landscape"), ("1", "Portrait")], required=False, label="Held")
    iso = forms.IntegerField(min_value=10, max_value=102400, required=False, label="ISO")
    shutter = forms.FloatField(min_value=0.01, max_value=3600, required=False, label="Shutter, s")
    frames = forms.IntegerField(min_value=1, max_value=2000, required=False, label="Frames")
    title = forms.CharField(max_length=120, required=False, label="Title")
    az = forms.FloatField(min_value=-360, max_value=720, required=False, widget=forms.HiddenInput)
    up = forms.FloatField(min_value=-60, max_value=90, required=False, widget=forms.HiddenInput)
    roll = forms.FloatField(min_value=-180, max_value=180, required=False, widget=forms.HiddenInput)

    def __init__(self, owner: Any, *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self.phones = {p.pk: p for p in Phone.objects.filter(owner=owner)}
        self.fields["lens"].choices = [  # type: ignore[attr-defined]
            (f"{p.pk}:{name}", f"{p.name}, {name}") for p in self.phones.values() for name in p.lenses
        ]

    def clean(self) -> dict[str, Any]:
        """What the lens cannot do is refused at the field, with the lens's range."""
        data = super().clean() or {}
        if "lens" in data:
            phone, name = self.chosen()
            lens = phone.core().lens(name)
            for field in ("iso", "shutter", "frames"):
                try:
                    OwnSettings(**{field: data.get(field)}).check(lens)
                except BadInput as error:
                    self.add_error(field, str(error))
        return data

    def pose(self) -> Pose | None:
        """Where the skyline's frame pointed; None when the shot is aimed by itself."""
        az, up = self.cleaned_data.get("az"), self.cleaned_data.get("up")
        return None if az is None or up is None else Pose(az % 360, up, self.cleaned_data.get("roll") or 0.0)

    def chosen(self) -> tuple[Phone, str]:
        """The phone and the lens's name."""
        pk, _, name = str(self.cleaned_data["lens"]).partition(":")
        return self.phones[int(pk)], name


class LessonForm(forms.ModelForm):  # type: ignore[type-arg]
    """What to do differently next time."""

    class Meta:
        model = Shot
        fields = ["lesson"]
        labels = {"lesson": "Next time"}
        widgets = {"lesson": forms.Textarea(attrs={"rows": 3, "maxlength": 2000})}
