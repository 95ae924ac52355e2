"""Forms of the planning pages: a person's thresholds, and what an address asks for."""

from collections.abc import Mapping

from django import forms

from vinter.core.errors import BadInput
from vinter.core.sky.targets import CORE, Target, target
from vinter.core.sky.thresholds import MOON_SCHOOLS, MOVABLE
from vinter.web.forms import ClockField, DayField, UnixTimeField
from vinter.web.nights.models import Preferences

WEEKDAYS = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")
LEAST_DRIVE, MOST_DRIVE = 10, 300


class PreferencesForm(forms.Form):
    """Move the thresholds; labels and bounds are the core's."""

    def __init__(self, own: Preferences, data: Mapping[str, str] | None = None) -> None:
        super().__init__(data)
        self.own = own
        now = own.limits()
        for f in MOVABLE:
            kind = forms.IntegerField if isinstance(f.default, int) else forms.FloatField
            self.fields[f.name] = kind(
                label=f.metadata["label"],
                min_value=f.metadata["low"],
                max_value=f.metadata["high"],
                help_text=f.metadata["note"],
                initial=getattr(now, f.name),
            )
        self.fields["drive_limit"] = forms.FloatField(
            label="Willing to drive, min",
            min_value=LEAST_DRIVE,
            max_value=MOST_DRIVE,
            initial=own.drive_limit,
        )

    def save(self) -> None:
        """Store what was set."""
        self.own.drive_limit = self.cleaned_data["drive_limit"]
        self.own.thresholds = {f.name: self.cleaned_data[f.name] for f in MOVABLE}
        self.own.save()


class TargetField(forms.CharField):
    """A target by its key; the core's when empty."""

    def clean(self, value: object) -> Target:
        """The core's target."""
        try:
            return target(str(value or "").strip() or CORE.key)
        except BadInput as error:
            raise forms.ValidationError(str(error)) from error


class FilterForm(forms.Form):
    """What the address of a planning page asks for: target, evenings, hours, minutes, Moon school."""

    target = TargetField(label="", required=False)
    own_target = forms.CharField(label="target", required=False)
    weekday = forms.TypedMultipleChoiceField(
        label="weekday",
        required=False,
        coerce=int,
        choices=[(str(i), name) for i, name in enumerate(WEEKDAYS)],
    )
    earliest = ClockField(label="earliest", required=False)
    latest = ClockField(label="latest", required=False)
    minutes = forms.FloatField(label="fewest minutes", required=False, min_value=0, max_value=1440)
    school = forms.ChoiceField(
        label="Moon school", required=False, choices=[("", "any"), *MOON_SCHOOLS.items()]
    )

    def clean_own_target(self) -> Target | None:
        """A target in the user's own words, which wins."""
        text = self.cleaned_data["own_target"].strip()
        try:
            return target(text) if text else None
        except BadInput as error:
            raise forms.ValidationError(str(error)) from error


class MinuteForm(forms.Form):
    """A minute to read."""

    t = UnixTimeField(label="t")


class CursorForm(forms.Form):
    """The minute a page is opened at, and a day; both may be left out."""

    t = UnixTimeField(label="t", required=False)
    day = DayField(label="day", required=False)


class DriveForm(forms.Form):
    """How far one is willing to drive."""

    drive = forms.FloatField(label="driving limit", required=False, min_value=0, max_value=1440)
