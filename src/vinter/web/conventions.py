"""Units and formats on pages: clock, units and the language of dates, as a person likes them.

Everything is computed, stored and exported in 24 hours and metric units. Figures are written by the filters
of templates; a sentence, which may have been stored long ago, passes through ``as_wished`` (in templates the
filter ``wished``), as what the PDF of the card says does. What stands in fields stays as it is typed.
"""

import re
from contextvars import ContextVar
from dataclasses import dataclass
from datetime import date

from django.utils import dateformat, translation

CLOCKS = {"24": "24 hours (21:30)", "12": "12 hours (9:30 pm)"}
UNITS = {"metric": "kilometres, metres, °C", "imperial": "miles, feet, °F"}
LANGUAGES = {
    "en-gb": "English (9 June)",
    "en-us": "English (June 9)",
    "de": "Deutsch",
    "es": "español",
    "fr": "français",
    "it": "italiano",
    "nl": "Nederlands",
    "pt": "português",
}


@dataclass(frozen=True)
class Conventions:
    """A clock of ``CLOCKS``, a system of ``UNITS``, a language of ``LANGUAGES`` for the names of days and
    months."""

    clock: str = "24"
    units: str = "metric"
    language: str = "en-gb"


USUAL = Conventions()
current: ContextVar[Conventions] = ContextVar("conventions", default=USUAL)

_MONTH_FIRST = re.compile(r"(jS?) ([FM])(?: (Y|y))?")


def dated(day: date, form: str) -> str:
    """A day in Django's date format, its names in the person's language, in American order where that is
    wished."""
    language = current.get().language
    if language == "en-us":
        form = _MONTH_FIRST.sub(lambda m: f"{m[2]} {m[1]}" + (f", {m[3]}" if m[3] else ""), form)
    with translation.override(language):
        return dateformat.format(day, form)


def hour_mark(hour: int) -> str:
    """A full hour at the edge of a drawing: "21", or "9 pm"."""
    return (
        f"{hour:02d}" if current.get().clock == "24" else f"{hour % 12 or 12} {'am' if hour < 12 else 'pm'}"
    )


def as_wished(text: str) -> str:
    """A text with its times and units as the person reads them; once written so, it stays."""
    own = current.get()
    if own.clock == "12":
        text = _CLOCK.sub(_twelve, text)
    return _LENGTH.sub(_imperial, text) if own.units == "imperial" else text


_CLOCK = re.compile(r"(?<![\d:.+−-])([01]\d|2[0-3]):([0-5]\d)(:[0-5]\d)?(?![\d:]| [ap]m\b)")
_NUMBER = r"[−-]?\d+(?:\.\d+)?"
_LENGTH = re.compile(
    rf"(?<![\w.])({_NUMBER})(?:( ± | to |–)({_NUMBER}))?([ \u00a0]|&nbsp;)(km|cm|m/s|m|°C)(?![\w²³/·^])"
)
_PER_UNIT = {"km": (0.62137, "mi"), "cm": (0.3937, "in"), "m": (3.28084, "ft"), "m/s": (2.23694, "mph")}


def _twelve(found: re.Match[str]) -> str:
    hour = int(found[1])
    return f"{hour % 12 or 12}:{found[2]}{found[3] or ''} {'am' if hour < 12 else 'pm'}"


def _imperial(found: re.Match[str]) -> str:
    first, joint, second, space, unit = found.groups()
    numbers = [first] if second is None else [first, second]
    spread = joint == " ± "
    if unit == "°C":
        said = [_as(n, 1.8, 0.0 if spread and i else 32.0, "°C") for i, n in enumerate(numbers)]
        return (joint or "").join(said) + space + "°F"
    factor, name = _PER_UNIT[unit]
    return (joint or "").join(_as(n, factor, 0.0, unit) for n in numbers) + space + name


def _as(number: str, factor: float, offset: float, unit: str) -> str:
    """A number in other units, with about as many figures as it had."""
    value = float(number.replace("−", "-")) * factor + offset
    digits = len(number.partition(".")[2])
    if unit in ("m", "cm"):
        digits = max(0, digits - 1) if unit == "m" else max(digits, 1)
    return f"{value:z.{digits}f}".replace("-", "−")
