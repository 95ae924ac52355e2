"""The form of a shot: the choices that are the photographer's."""

from collections.abc import Mapping
from datetime import datetime, timedelta

from django import forms
from django.contrib.auth.models import User

from vinter.core.camera.exposure import OwnSettings
from vinter.core.camera.optics import RESOLUTIONS, Optics
from vinter.core.camera.phones import Lens
from vinter.core.camera.projection import Pose
from vinter.core.camera.shutter import USES
from vinter.core.errors import BadInput
from vinter.core.planning.modes.registry import MODES
from vinter.core.sky.nights import evening_of
from vinter.core.sky.site import Site as CoreSite
from vinter.core.versions import Data
from vinter.web.forms import UnixTimeField
from vinter.web.gear.models import Phone
from vinter.web.nights.forms import TargetField
from vinter.web.shots.models import Shot

NOON = 12  # hours; a night's times before it belong to the morning after


class MomentForm(forms.Form):
    """The minute a shot is planned for, and its target."""

    t = UnixTimeField(label="the minute")
    target = TargetField(label="target", required=False)


class ShotForm(forms.Form):
    """Phone and lens, use, orientation; ISO, shutter and frames may overrule the advice."""

    lens = forms.ChoiceField(label="Phone and lens")
    resolution = forms.ChoiceField(
        choices=[(key, name.capitalize()) for key, name in RESOLUTIONS.items()],
        required=False,
        label="Resolution",
    )
    clip_on = forms.FloatField(
        min_value=0.2, max_value=15, required=False, label="Clip-on lens, factor (empty: none)"
    )
    at = forms.TimeField(required=False, label="At", widget=forms.TimeInput(attrs={"type": "time"}))
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

    def __init__(
        self, owner: User, data: Mapping[str, str] | None = None, initial: Data | None = None
    ) -> None:
        super().__init__(data, initial=initial)
        self.phones = {p.pk: p for p in Phone.objects.filter(owner=owner)}
        self.fields["lens"].choices = [  # type: ignore[attr-defined]
            (f"{p.pk}:{name}", f"{p.name}, {name}") for p in self.phones.values() for name in p.lenses
        ]

    def clean(self) -> dict[str, object]:
        """What the lens cannot do is refused at the field, with the lens's range."""
        data = super().clean() or {}
        if "lens" in data:
            try:
                lens = self.optics().on(self.whole_lens())
            except BadInput as error:
                self.add_error("resolution", str(error))
                return data
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

    def optics(self) -> Optics:
        """Resolution and clip-on."""
        data = self.cleaned_data
        return Optics(data.get("resolution") or "", data.get("clip_on") or 1.0)

    def own(self) -> Data:
        """ISO, shutter and frames as the photographer sets them."""
        return {field: self.cleaned_data.get(field) for field in ("iso", "shutter", "frames")}

    def whole_lens(self) -> Lens:
        """The lens as the phone has it."""
        phone, name = self.chosen()
        return phone.core().lens(name)

    def moment(self, site: CoreSite, planned: float) -> float:
        """The planned minute, moved within its night to the local time that was typed."""
        at = self.cleaned_data.get("at")
        if at is None:
            return planned
        day = evening_of(site, planned) + timedelta(days=at.hour < NOON)
        wanted = datetime.combine(day, at, site.zone).timestamp()
        return planned if abs(wanted - planned) < 60 else wanted

    def chosen(self) -> tuple[Phone, str]:
        """The phone and the lens's name."""
        pk, _, name = str(self.cleaned_data["lens"]).partition(":")
        return self.phones[int(pk)], name


class LessonForm(forms.ModelForm):  # type: ignore[type-arg]
    """What to do differently next time, and what the sky was."""

    class Meta:
        model = Shot
        fields = ["lesson", "sky_came"]
        labels = {"lesson": "Next time", "sky_came": "The sky was"}
        widgets = {"lesson": forms.Textarea(attrs={"rows": 3, "maxlength": 2000})}
