"""Units and formats on pages: clock, units and the language of dates, as a person likes them.

Everything is computed, stored and exported in 24 hours and metric units. Pages are rewritten on their way
out, so that sentences that were stored long ago follow as well; what stands in fields stays as it is typed.
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

    @property
    def as_computed(self) -> bool:
        """Whether clock and units are those that everything is computed in."""
        return self.clock == "24" and self.units == "metric"


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
    """A text that no page carries, with times and units as the person reads them."""
    return _text(text, current.get())


_TAGS = re.compile(r"(<(script|style|textarea|pre|code)\b.*?</\2\s*>|<!--.*?-->|<[^>]*>)", re.S | re.I)
_SPOKEN = re.compile(r'(\s(?:title|aria-label)=")([^"]*)(")')
_CLOCK = re.compile(r"(?<![\d:.+−-])([01]\d|2[0-3]):([0-5]\d)(:[0-5]\d)?(?![\d:])")
_NUMBER = r"[−-]?\d+(?:\.\d+)?"
_LENGTH = re.compile(
    rf"(?<![\w.])({_NUMBER})(?:( ± | to |–)({_NUMBER}))?([ \u00a0]|&nbsp;)(km|cm|m/s|m|°C)(?![\w²³/·^])"
)
_PER_UNIT = {"km": (0.62137, "mi"), "cm": (0.3937, "in"), "m": (3.28084, "ft"), "m/s": (2.23694, "mph")}


def rewritten(html: str, conventions: Conventions) -> str:
    """A page with its clocks and units as wished: in its text and in what is read out of titles, not in
    fields or scripts."""
    if conventions.as_computed:
        return html
    out, last = [], 0
    for tag in _TAGS.finditer(html):
        out.append(_text(html[last : tag.start()], conventions))
        whole = tag.group(0)
        if tag.group(2) is None:
            whole = _SPOKEN.sub(lambda m: m[1] + _text(m[2], conventions) + m[3], whole)
        out.append(whole)
        last = tag.end()
    return "".join([*out, _text(html[last:], conventions)])


def _text(text: str, conventions: Conventions) -> str:
    if conventions.clock == "12":
        text = _CLOCK.sub(_twelve, text)
    return _LENGTH.sub(_imperial, text) if conventions.units == "imperial" else text


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
