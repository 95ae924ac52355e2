"""What the pages of a take post: a word on a frame, a part of an upload."""

from django import forms

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
