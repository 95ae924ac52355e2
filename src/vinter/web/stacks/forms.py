"""How a take is to be stacked, as a form made of the core's options."""

from collections.abc import Mapping

from django import forms

from vinter.core.stack.options import OPTIONS, Option, Options, Shown, options_from
from vinter.web.stacks.models import Stack
from vinter.web.takes.models import Frame, Take

GROUNDS = [("auto", "kept still, from the sky frames"), ("none", "none in the frame")]
OWN = [("own", "from the ground frames"), ("focus", "from ground frames focused near and far")]
LUCKY = (Stack.LUCKY, "the sharpest share: Moon, planet")  # a kind of stack that is chosen like a method
CLASSES = {Shown.POINTS: "not-trails", Shown.TRAILS: "only-trails", Shown.LUCKY: "only-lucky"}
BEHIND_MORE = (Shown.MORE, Shown.POINTS)


def _field(option: Option) -> forms.Field:
    """An option as a field of a form."""
    if option.name == "method":
        choices = [*option.values.items(), LUCKY]
        return forms.ChoiceField(label=option.label, choices=choices, initial=option.usual)
    if not option.is_number:
        return forms.ChoiceField(
            label=option.label, choices=list(option.values.items()), initial=option.usual
        )
    low, high = option.bounds
    if option.offered:
        return forms.TypedChoiceField(
            label=option.label, choices=list(option.offered.items()), initial=str(option.usual), coerce=float
        )
    return forms.FloatField(
        label=option.label,
        min_value=low,
        max_value=high,
        initial=option.usual,
        widget=forms.NumberInput(attrs={"step": "0.1", "size": 4}),
    )


class StackForm(forms.Form):
    """How to combine; the choices for the ground follow from the take's frames."""

    def __init__(
        self,
        take: Take,
        frames: list[Frame],
        data: Mapping[str, str] | None = None,
        initial: dict[str, object] | None = None,
    ) -> None:
        super().__init__(data, initial=initial)
        own = len(take.serving_as("ground"))
        single = [(f"frame:{f.pk}", f"from {f.name} alone") for f in frames]
        grounds = forms.ChoiceField(
            label="Ground", initial="auto", choices=GROUNDS + OWN[: min(own, 2)] + single
        )
        self.fields |= {name: _field(option) for name, option in OPTIONS.items()} | {"ground": grounds}
        if not frames and any(f.is_film for f in take.readable()):
            self.fields["method"].initial = Stack.LUCKY
        for name, field in self.fields.items():
            field.required = False
            field.widget.attrs["id"] = name

    def clean(self) -> dict[str, object]:
        """What is not said is as usual."""
        given = super().clean() or {}
        return {
            name: self.fields[name].initial if given.get(name) in (None, "") else given[name]
            for name in self.fields
        }

    @property
    def kind(self) -> str:
        """The kind of stack that is wished."""
        return Stack.LUCKY if self.cleaned_data["method"] == Stack.LUCKY else Stack.BURST

    @property
    def options(self) -> Options:
        """The options that are wished."""
        given = {name: self.cleaned_data[name] for name in OPTIONS}
        if self.kind == Stack.LUCKY:
            del given["method"]
        return options_from(given)

    @property
    def first(self) -> list[forms.BoundField]:
        """What is asked first."""
        return [self[name] for name in ("method", "ground")] + [
            self[name]
            for name, option in OPTIONS.items()
            if name != "method" and option.shown not in BEHIND_MORE
        ]

    @property
    def more(self) -> list[forms.BoundField]:
        """What is asked of those who open "More"."""
        return [self[name] for name, option in OPTIONS.items() if option.shown in BEHIND_MORE]


def shown_class(field: forms.BoundField) -> str:
    """The class by which the form shows a field with the method it belongs to."""
    option = OPTIONS.get(field.name)
    return CLASSES.get(option.shown, "") if option else ""


def of_stack(one: Stack) -> dict[str, object]:
    """The values of a stack, to begin another with."""
    chosen = {
        name: f"{value:.1f}" if option.offered and isinstance(value, float) else value
        for name, option in OPTIONS.items()
        if (value := getattr(one.chosen, name)) is not None
    }
    return chosen | {"ground": one.ground} | ({"method": Stack.LUCKY} if one.lucky else {})
