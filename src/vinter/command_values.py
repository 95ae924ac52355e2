"""Values of the command line, read and printed: days, moments, numbers, JSON."""

import argparse
import json
import math
from datetime import UTC, date, datetime
from zoneinfo import ZoneInfo

from vinter.core.finite import finite


def read_day(text: str) -> date:
    """A day as YYYY-MM-DD."""
    try:
        return date.fromisoformat(text)
    except ValueError as error:
        raise argparse.ArgumentTypeError(f"{text!r} is not a date like 2027-06-09") from error


def read_moment(text: str) -> float:
    """Unix seconds of a UTC time in ISO 8601."""
    try:
        moment = datetime.fromisoformat(text.replace("Z", "+00:00"))
    except ValueError as error:
        raise argparse.ArgumentTypeError(f"{text!r} is not a time like 2027-06-10T01:12:00Z") from error
    return (moment if moment.tzinfo else moment.replace(tzinfo=UTC)).timestamp()


def read_number(text: str) -> float:
    """A number that is one: neither nan nor infinite."""
    try:
        value = float(text)
    except ValueError as error:
        raise argparse.ArgumentTypeError(f"{text!r} is not a number") from error
    if not math.isfinite(value):
        raise argparse.ArgumentTypeError(f"{text!r} is not a finite number")
    return value


def read_magnitude(text: str) -> float | None:
    """A magnitude; None for auto."""
    return None if text == "auto" else read_number(text)


def read_zone(text: str) -> str:
    """The name of a time zone."""
    try:
        ZoneInfo(text)
    except (ValueError, OSError, KeyError) as error:
        raise argparse.ArgumentTypeError(f"{text!r} is not a time zone like Europe/Lisbon") from error
    return text


def print_json(data: object) -> None:
    """Plain data on standard output, without numbers that are none."""
    print(json.dumps(finite(data), indent=1, allow_nan=False))
