"""What the pages of a take post: a word on a frame, a part of an upload."""

from typing import Any

from django import forms

from vinter.core.frames.film import LEVEL, STYLES
from vinter.core.frames.frame_type import FRAME_TYPES
from vinter.core.frames.selection import Decision


class DecisionForm(forms.Form):
    """Keep, drop, or leave it to the measures."""

    decision = forms.ChoiceField(
        label="decision", required=False, choices=[(d.value, d.value) for d in Decision]
    )


class FrameTypeForm(forms.Form):
    """What a frame is."""

    frame_type = forms.ChoiceField(label="type of frame", choices=[(t, t) for t in FRAME_TYPES])


class PartForm(forms.Form):
    """Size of the whole file and where a part begins, in bytes."""

    size = forms.IntegerField(min_value=0)
    offset = forms.IntegerField(min_value=0)


class FilmForm(forms.Form):
    """How a time-lapse is made."""

    style = forms.ChoiceField(label="Light", choices=list(STYLES.items()), required=False, initial=LEVEL)
    fps = forms.TypedChoiceField(
        label="Pictures a second",
        choices=[(n, str(n)) for n in (12, 24, 25, 30)],
        coerce=int,
        required=False,
        initial=24,
        empty_value=24,
    )
    kind = forms.ChoiceField(
        label="As", choices=[("webm", "WebM"), ("mp4", "MP4")], required=False, initial="webm"
    )

    def clean(self) -> dict[str, Any]:
        """What is not said is as usual."""
        given = super().clean() or {}
        return {name: given.get(name) or field.initial for name, field in self.fields.items()}
