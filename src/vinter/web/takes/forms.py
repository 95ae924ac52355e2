"""What the pages of a take post: a word on a frame, a film, a focus."""

from collections.abc import Mapping

from django import forms

from vinter.core.frames.film import LEVEL, STYLES
from vinter.core.frames.frame_type import FRAME_TYPES
from vinter.core.frames.selection import Decision
from vinter.web.takes.models import Take

MOST_TICKS = 200


class DecisionForm(forms.Form):
    """Keep, drop, or leave it to the measures."""

    decision = forms.ChoiceField(
        label="decision", required=False, choices=[(d.value, d.value) for d in Decision]
    )


class FrameTypeForm(forms.Form):
    """What a frame is."""

    frame_type = forms.ChoiceField(label="type of frame", choices=[(t, t) for t in FRAME_TYPES])


class FilmForm(forms.Form):
    """How a time-lapse is made."""

    style = forms.ChoiceField(label="Light", choices=list(STYLES.items()), required=False, initial=LEVEL)
    fps = forms.TypedChoiceField(
        label="Pictures a second",
        choices=[(n, str(n)) for n in (12, 24, 25, 30)],
        coerce=int,
        required=False,
        initial=24,
    )
    kind = forms.ChoiceField(
        label="As", choices=[("webm", "WebM"), ("mp4", "MP4")], required=False, initial="webm"
    )

    def clean(self) -> dict[str, object]:
        """What is not said is as usual."""
        given = super().clean() or {}
        return {name: given.get(name) or field.initial for name, field in self.fields.items()}


class FocusForm(forms.Form):
    """The tick a take was focused at, and those of its test frames."""

    tick = forms.FloatField(label="Focus, ticks back", required=False, min_value=0, max_value=MOST_TICKS)

    def __init__(self, take: Take, data: Mapping[str, str] | None = None) -> None:
        super().__init__(data)
        self.auto_id = "focus-%s"
        self.take = take
        self.tests = [f for f in take.frame_set.all() if f.frame_type == "test"]
        self.initial["tick"] = _plain(take.focused_at)
        for frame in self.tests:
            self.fields[f"frame-{frame.pk}"] = forms.FloatField(
                label=frame.name, required=False, min_value=0, max_value=MOST_TICKS
            )
            self.initial[f"frame-{frame.pk}"] = _plain(frame.tick)
        for field in self.fields.values():
            field.widget = forms.TextInput(attrs={"inputmode": "numeric", "size": 3})

    def keep(self) -> None:
        """Store them; a take's own tick only where it is not the planned one."""
        wanted = self.cleaned_data["tick"]
        self.take.tick = None
        if wanted != self.take.focused_at:
            self.take.tick = wanted
        self.take.save(update_fields=["tick"])
        for frame in self.tests:
            frame.tick = self.cleaned_data[f"frame-{frame.pk}"]
            frame.save(update_fields=["tick"])


def _plain(value: float | None) -> str:
    return "" if value is None else f"{value:g}"
