"""How a take is to be stacked, as a form."""

from typing import Any

from django import forms

from vinter.core.stack.combining.methods import KAPPA, Method
from vinter.core.stack.lucky import SHARE
from vinter.core.stack.settings import EVEN, LEAVE
from vinter.web.stacks.models import Stack
from vinter.web.takes.models import Frame, Take

GROUNDS = [("auto", "kept still, from the sky frames"), ("none", "none in the frame")]
OWN = [("own", "from the ground frames"), ("focus", "from ground frames focused near and far")]
FIELDS = ("method", "share", "kappa", "ground", "match", "gaps", "tail", "lens", "lamp", "corners")


class StackForm(forms.Form):
    """How to combine; the choices for the ground follow from the take's frames."""

    method = forms.ChoiceField(
        label="Combine",
        choices=[*((m.value, m.label) for m in Method), (Stack.LUCKY, "the sharpest share: Moon, planet")],
        initial=Method.CLIP.value,
    )
    share = forms.TypedChoiceField(
        label="Kept",
        choices=[("0.1", "the best tenth"), ("0.3", "the best third"), ("0.6", "the better half")],
        initial="0.3",
        coerce=float,
        empty_value=SHARE,
    )
    kappa = forms.FloatField(
        label="Leave out beyond",
        min_value=1.5,
        max_value=20,
        initial=KAPPA,
        widget=forms.NumberInput(attrs={"step": "0.1", "size": 4}),
    )
    ground = forms.ChoiceField(label="Ground", initial="auto")
    match = forms.ChoiceField(
        label="Brightness",
        choices=[("auto", "normalized"), ("off", "left as it is")],
        initial="auto",
    )
    lens = forms.ChoiceField(
        label="Lens warp of the file", choices=[("auto", "applied"), ("off", "left out")], initial="auto"
    )
    lamp = forms.ChoiceField(
        label="Ground lit by a lamp",
        initial="out",
        choices=[("out", "left out"), ("only", "from those frames alone"), ("all", "all frames count")],
    )
    corners = forms.ChoiceField(
        label="Dark corners",
        initial=EVEN,
        choices=[(EVEN, "evened out as the stars show"), (LEAVE, "left as they are")],
    )
    gaps = forms.ChoiceField(
        label="Pauses", choices=[("close", "closed along the motion"), ("open", "left open")], initial="close"
    )
    tail = forms.TypedChoiceField(
        label="Tails",
        choices=[("0.0", "even"), ("0.5", "fading by half"), ("0.9", "fading to nothing")],
        initial="0.0",
        coerce=float,
        empty_value=0.0,
    )

    def __init__(self, take: Take, frames: list[Frame], *args: Any, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        own = len(take.serving_as("ground"))
        single = [(f"frame:{f.pk}", f"from {f.name} alone") for f in frames]
        ground = self.fields["ground"]
        assert isinstance(ground, forms.ChoiceField)
        if not frames and any(f.is_film for f in take.readable()):
            self.fields["method"].initial = Stack.LUCKY
        ground.choices = GROUNDS + OWN[: min(own, 2)] + single
        for name, field in self.fields.items():
            field.required = False
            field.widget.attrs["id"] = name

    def clean(self) -> dict[str, Any]:
        """What is not said is as usual."""
        given = super().clean() or {}
        return {
            name: self.fields[name].initial if given.get(name) in (None, "") else given[name]
            for name in self.fields
        }


def of_stack(one: Stack) -> dict[str, Any]:
    """The values of a stack, to begin another with."""
    return {name: getattr(one, name) for name in FIELDS} | {"tail": f"{one.tail:.1f}"}
