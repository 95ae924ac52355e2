"""Reading numbers, dates and times of addresses and posts: Django forms, whose first error is a BadInput."""

from datetime import date
from typing import TypeVar

from django import forms

from vinter.core.errors import BadInput
from vinter.core.sky.ephemeris import FIRST_YEAR, LAST_YEAR

F = TypeVar("F", bound=forms.BaseForm)
MOST_DIGITS = 18  # digits of a row's number: what a database can hold
EARLIEST_UNIX, LATEST_UNIX = -2.2e9, 2.6e9  # what the ephemeris covers


class UnixTimeField(forms.FloatField):
    """A time in Unix seconds that the ephemeris covers."""

    def __init__(self, label: str, required: bool = True) -> None:
        super().__init__(
            min_value=EARLIEST_UNIX,
            max_value=LATEST_UNIX,
            error_messages=dict.fromkeys(("invalid", "required"), "a time in Unix seconds is wanted"),
            label=label,
            required=required,
        )


class DayField(forms.Field):
    """A date like 2027-06-09."""

    default_error_messages = {"required": "a date like 2027-06-09 is wanted"}

    def to_python(self, value: object) -> date | None:
        """The date; an error that shows how one is written."""
        if not value:
            return None
        try:
            day = date.fromisoformat(str(value))
        except ValueError as error:
            raise forms.ValidationError("not a date like 2027-06-09") from error
        if not FIRST_YEAR <= day.year <= LAST_YEAR:
            raise forms.ValidationError(f"the years {FIRST_YEAR} to {LAST_YEAR} are covered, as 2027-06-09")
        return day


class ClockField(forms.Field):
    """A wall-clock time like 22:30, as hours after local noon."""

    def to_python(self, value: object) -> float | None:
        """Hours from local noon; None when empty."""
        if not value:
            return None
        hour, _, minute = str(value).partition(":")
        try:
            hours = int(hour) + int(minute or 0) / 60
        except ValueError:
            hours = -1.0
        if not 0 <= hours < 24:
            raise forms.ValidationError("not a time like 22:30")
        return (hours - 12) % 24


def checked(form: F) -> F:
    """A form whose data are good; BadInput with the first error of each field otherwise."""
    if form.is_valid():
        return form
    parts = []
    for name, errors in form.errors.items():
        label = form.fields[name].label or name if name in form.fields else ""
        given = str(form.data.get(form.add_prefix(name)) or "")[:40]
        where = " ".join(str(part) for part in (label, repr(given) if given else "") if part)
        parts.append(f"{where}: {errors[0]}" if label else str(errors[0]))
    raise BadInput("; ".join(part.rstrip(".") for part in parts))


def row_number(text: str) -> int | None:
    """The number of a row as an address gives it; None when it is none (signs, foreign digits, absurdly
    long)."""
    return int(text) if text.isascii() and text.isdecimal() and len(text) <= MOST_DIGITS else None


class DayForm(forms.Form):
    """A day of an address."""

    day = DayField(label="day")


def read_day(text: str) -> date:
    """A date of an address; BadInput when it is none."""
    return checked(DayForm({"day": text})).cleaned_data["day"]  # type: ignore[no-any-return]
