"""Figures as text: times in a site's zone, hours and minutes, signed magnitudes, file sizes."""

from datetime import date, datetime, timedelta
from zoneinfo import ZoneInfo

from django import template
from django.templatetags.static import static
from django.utils.html import escape, format_html
from django.utils.safestring import SafeString, mark_safe

from vinter.core.frames.content import Reader, accepted
from vinter.core.planning.modes.basis import spoken_shutter
from vinter.core.sky.verdict import compass as point_of
from vinter.core.words import count_of
from vinter.web.conventions import as_wished, current, dated

register = template.Library()
MINUS = "−"


@register.filter(is_safe=True)
def wished(text: object) -> str:
    """A sentence with its times and units as the person reads them."""
    return as_wished(str(text))


@register.filter
def clock(unix: float | None, zone: str = "UTC") -> str:
    """Hour and minute of Unix seconds in a zone."""
    if unix is None:
        return "–"
    return as_wished(clock_24(unix, zone))


def clock_24(unix: float, zone: str) -> str:
    """Hour and minute of Unix seconds in a zone, as fields take them."""
    return datetime.fromtimestamp(round(unix / 60) * 60, ZoneInfo(zone)).strftime("%H:%M")


@register.filter
def people(count: int) -> str:
    """Inhabitants, rounded to two figures."""
    if count >= 1_000_000:
        return f"{count / 1e6:.1f} million people"
    step = 10 ** max(len(str(count)) - 2, 0)
    return f"{round(count / step) * step:,}".replace(",", " ") + " people"


@register.filter
def frames(count: int) -> str:
    """A number of frames in words: 1 frame, 12 frames."""
    return count_of(count, "frame")


@register.filter
def shutter(seconds: float) -> str:
    """A shutter as a phone shows it."""
    return spoken_shutter(float(seconds))


ACCEPTED = {
    "frames": accepted(),
    "raw": accepted(Reader.RAW),
    "frames films": accepted(Reader.RAW, Reader.PICTURE, Reader.FITS, Reader.FILM),
}


@register.simple_tag(name="accepted")
def accepted_files(kinds: str) -> str:
    """Suffixes of the files that a form takes: frames, raw, or frames films."""
    return ACCEPTED[kinds]


@register.filter(is_safe=True)
def sentence(text: str) -> str:
    """A message with a capital at its beginning, unless that is the name of a file or an account's."""
    first = str(text).split(" ", 1)[0]
    return str(text) if "." in first or first.endswith(":") else f"{str(text)[:1].upper()}{str(text)[1:]}"


@register.filter
def words(text: str) -> list[str]:
    """The words of a text."""
    return text.split()


@register.filter
def timer_fields(spec: str, values: dict[str, float]) -> list[tuple[str, str, float]]:
    """Name, label and value of the timer's fields, from a text of ``name:label`` parts."""
    return [(name, label, values[name]) for name, label in (part.split(":") for part in spec.split(";"))]


@register.filter
def bars(counts: list[int]) -> list[tuple[int, tuple[float, float]]]:
    """Bars of a histogram 40 high, by the square root of the counts: place, top and height."""
    most = max(counts) ** 0.5 or 1.0
    return [
        (i, (round(40 - 40 * n**0.5 / most, 2), round(40 * n**0.5 / most, 2))) for i, n in enumerate(counts)
    ]


@register.filter
def compass(azimuth: float) -> str:
    """The compass point of an azimuth."""
    return point_of(azimuth)


@register.filter
def clock_seconds(unix: float, zone: str = "UTC") -> str:
    """Hour, minute and second of Unix seconds in a zone."""
    return as_wished(datetime.fromtimestamp(round(unix), ZoneInfo(zone)).strftime("%H:%M:%S"))


@register.filter
def minus(a: float, b: float) -> float:
    """A difference."""
    return a - b


@register.filter
def clocks(times: list[float], zone: str = "UTC") -> str:
    """Several times, or a dash."""
    return ", ".join(clock(t, zone) for t in times) or "–"


@register.filter
def moment(unix: float | None, zone: str = "UTC") -> str:
    """Day and time in a zone."""
    return (
        "" if unix is None else as_wished(dated(datetime.fromtimestamp(unix, ZoneInfo(zone)), "j M Y, H:i"))
    )


@register.filter(name="date", expects_localtime=True, is_safe=False)
def own_date(day: date | None, form: str = "j M Y") -> str:
    """A day or a moment by Django's letters, in the language and order the person reads."""
    if not isinstance(day, date):
        return ""
    return as_wished(dated(day, form)) if "H" in form else dated(day, form)


@register.filter
def metres(value: float) -> str:
    """Metres to a tenth, in the person's units."""
    return with_unit(value, "m", 1)


@register.filter
def with_unit(value: float | None, unit: str = "km", digits: int = 0) -> str:
    """A length, a speed or a temperature with its unit (km, m, m/s or °C), in the person's units."""
    return as_wished(f"{fixed(value, digits)} {unit}")


@register.simple_tag
def conventions() -> SafeString:
    """The person's clock and units as attributes, for the scripts that write times and lengths."""
    own = current.get()
    return format_html('data-clock="{}" data-units="{}"', own.clock, own.units)


@register.filter
def duration(minutes: float) -> str:
    """Minutes as hours and minutes."""
    whole = round(minutes)
    return f"{whole // 60} h {whole % 60:02d}" if whole >= 60 else f"{whole} min"


@register.filter
def lost(magnitudes: float) -> str:
    """A cost in magnitudes with its sign."""
    return "0.00" if abs(magnitudes) < 0.005 else f"{MINUS}{magnitudes:.2f}"


@register.filter
def fixed(value: float | None, digits: int = 1) -> str:
    """A number with a fixed number of digits and a true minus sign; nothing is below nothing."""
    return "–" if value is None else f"{value:z.{digits}f}".replace("-", MINUS)


@register.filter
def signed(value: float | None, digits: int = 1) -> str:
    """A figure with its sign."""
    return "" if value is None else f"{value:+.{digits}f}".replace("-", "−")


@register.filter
def percent(share: float | None, digits: int = 0) -> str:
    """A share as per cent."""
    return "–" if share is None else f"{100 * share:.{digits}f} %".replace("-", "−")


@register.simple_tag
def icon(name: str) -> SafeString:
    """An icon of the vendored set, by reference."""
    sheet = escape(static("vendor/icons.svg"))
    return mark_safe(f'<svg class="icon" aria-hidden="true"><use href="{sheet}#{escape(name)}"/></svg>')


@register.filter
def ordinal(n: int) -> str:
    """A number as a place in a row: 1st, 2nd, 3rd, 11th."""
    ending = "th" if n % 100 in (11, 12, 13) else {1: "st", 2: "nd", 3: "rd"}.get(n % 10, "th")
    return f"{n}{ending}"


@register.filter
def get(values: dict[object, object], key: object) -> object:
    """A dictionary's value; None where the key is not."""
    return values.get(key)


@register.filter
def night_name(day: date, weekday: str = "") -> str:
    """A night by its evening and its morning: "9 June 2027 into the 10th"; with a weekday when one is asked
    for."""
    morning = day + timedelta(days=1)
    return f"{dated(day, 'l j F Y' if weekday else 'j F Y')} into the {ordinal(morning.day)}"


@register.filter
def night_short(day: date) -> str:
    """A night in few letters: "9/10 Jun 2027", "30 Jun/1 Jul 2027"."""
    morning = day + timedelta(days=1)
    if day.month != morning.month:
        return f"{dated(day, 'j M')}/{dated(morning, 'j M Y')}"
    return dated(day, "j M Y").replace(str(day.day), f"{day.day}/{morning.day}", 1)
