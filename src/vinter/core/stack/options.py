"""How frames may be stacked: each option once, for form, shell, validation, storage and report.

A field of ``Options`` is an option; its entry (``Option``) has the words, the values and who asks for it.
Whoever adds a field here has added it to all of them, and then lets the step it belongs to look at it.
"""

from collections.abc import Mapping
from dataclasses import Field, asdict, dataclass, field, fields
from enum import StrEnum
from typing import Any

from vinter.core.errors import BadInput
from vinter.core.stack.combining.methods import KAPPA, Method
from vinter.core.versions import Data, Schema

EVEN, LEAVE = "auto", "off"
OPTIONS_STORED = Schema("options of a stack")

Value = str | float


class Shown(StrEnum):
    """When a form offers an option."""

    ALWAYS = "always"
    MORE = "more"  # behind "More"
    POINTS = "points"  # behind "More", where stars are to be points
    TRAILS = "trails"
    LUCKY = "lucky"


@dataclass(frozen=True)
class Option:
    """An option: what it is called, in words to choose by (``values``, the stored value first) or as a number
    within ``bounds``, one line for the shell, and when a form shows it. ``offered`` are numbers a form
    offers; any number within the bounds is taken from the shell."""

    name: str
    usual: Value
    label: str
    help: str
    shown: Shown = Shown.MORE
    values: Mapping[str, str] = field(default_factory=dict)
    bounds: tuple[float, float] = (0.0, 0.0)
    offered: Mapping[str, str] = field(default_factory=dict)

    @property
    def is_number(self) -> bool:
        """Whether it is a number."""
        return not self.values

    def checked(self, value: object) -> Value:
        """A value of this option. BadInput names the option and what it may be."""
        if not self.is_number:
            if value in self.values:
                return str(value)
            known = ", ".join(self.values)
            raise BadInput(f"{self.name} {value!r} is not one of {known}")
        low, high = self.bounds
        try:
            number = float(value)  # type: ignore[arg-type]
        except (TypeError, ValueError):
            raise BadInput(f"{self.name} {value!r} is not a number") from None
        if not low <= number <= high:
            raise BadInput(f"{self.name} {number:g} is not within {low:g} to {high:g}")
        return number

    def words(self, value: Value) -> str:
        """A value as a report says it."""
        said = self.values or self.offered
        return said.get(str(value), f"{value:g}" if isinstance(value, float) else str(value))


def _entry(label: str, help: str, **more: object) -> Data:
    return {"label": label, "help": help, **more}


@dataclass(frozen=True, kw_only=True)
class Options:
    """What may be chosen of any stack; the defaults are the usual choices.

    Raises:
        BadInput: a value that the option does not have.
    """

    method: Method = field(
        default=Method.CLIP,
        metadata=_entry(
            "Combine",
            "how the samples of a place become one",
            shown=Shown.ALWAYS,
            values={str(m): m.label for m in Method},
        ),
    )
    share: float = field(
        default=0.3,
        metadata=_entry(
            "Kept",
            "share of the frames that is kept, the sharpest, 0 to 1",
            shown=Shown.LUCKY,
            bounds=(0.001, 1.0),
            offered={"0.1": "the best tenth", "0.3": "the best third", "0.6": "the better half"},
        ),
    )
    gaps: str = field(
        default="close",
        metadata=_entry(
            "Pauses",
            "pauses between frames of trails",
            shown=Shown.TRAILS,
            values={"close": "closed along the motion", "open": "left open"},
        ),
    )
    tail: float = field(
        default=0.0,
        metadata=_entry(
            "Tails",
            "how much darker the oldest frame of trails is, 0 to 1",
            shown=Shown.TRAILS,
            bounds=(0.0, 1.0),
            offered={"0.0": "even", "0.5": "fading by half", "0.9": "fading to nothing"},
        ),
    )
    kappa: float = field(
        default=KAPPA,
        metadata=_entry(
            "Leave out beyond, deviations",
            "deviations beyond which a sample is left out",
            shown=Shown.POINTS,
            bounds=(1.5, 20.0),
        ),
    )
    match: str = field(
        default="auto",
        metadata=_entry(
            "Brightness",
            "bring the frames to one brightness and background",
            shown=Shown.POINTS,
            values={"auto": "normalized", "off": "left as it is"},
        ),
    )
    lens: str = field(
        default="auto",
        metadata=_entry(
            "Lens warp of the file",
            "apply the lens warp the files carry",
            values={"auto": "applied", "off": "left out"},
        ),
    )
    lamp: str = field(
        default="out",
        metadata=_entry(
            "Ground lit by a lamp",
            "ground lit by a lamp in some frames: left out, taken from them only, or all frames count",
            shown=Shown.POINTS,
            values={"out": "left out", "only": "from those frames alone", "all": "all frames count"},
        ),
    )
    corners: str = field(
        default=EVEN,
        metadata=_entry(
            "Dark corners",
            "even out corners that the stars show to be darker",
            shown=Shown.POINTS,
            values={EVEN: "evened out as the stars show", LEAVE: "left as they are"},
        ),
    )

    def __post_init__(self) -> None:
        for option in OPTIONS.values():
            value = option.checked(getattr(self, option.name))
            object.__setattr__(self, option.name, value)
        object.__setattr__(self, "method", Method(self.method))

    def stored(self) -> Data:
        """As plain data, by name."""
        return OPTIONS_STORED.stamped({name: asdict(self)[name] for name in OPTIONS})

    def unusual(self) -> dict[str, str]:
        """What was chosen other than usual, but for the method: label and words."""
        return {
            option.label: option.words(getattr(self, name))
            for name, option in OPTIONS.items()
            if name != "method" and getattr(self, name) != option.usual
        }


def _option_of(made: "Field[Any]") -> Option:
    usual: Any = str(made.default) if isinstance(made.default, StrEnum) else made.default
    return Option(name=made.name, usual=usual, **made.metadata)


OPTIONS: dict[str, Option] = {made.name: _option_of(made) for made in fields(Options)}


def options_from(data: Mapping[str, object]) -> Options:
    """The options in plain data (as ``stored``); what is not there is as usual. BadInput for a value that an
    option does not have."""
    return Options(**{name: data[name] for name in OPTIONS if name in data})  # type: ignore[arg-type]
