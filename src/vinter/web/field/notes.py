"""What was written in the field and sent home later: checked, stored once, put where it belongs."""

import math
import time
from collections.abc import Callable

from django import forms

from vinter.core.errors import BadInput
from vinter.core.json_input import read_json
from vinter.core.versions import Data
from vinter.web.field.forms import TimedForm
from vinter.web.field.models import FieldNote
from vinter.web.forms import checked
from vinter.web.shots.models import Shot
from vinter.web.sites.models import StrayLight

SAME_LAMP = 15.0  # degrees within which a lamp of one name is the same
LARGEST = 256 * 1024  # bytes of what is sent at a time
MOST = 500  # notes accepted at a time
CLOCK_OFF = 120.0  # s by which a phone's clock may differ before its times are moved
OLDEST = 400 * 86400.0  # s before which nothing was noted


class WordsForm(forms.Form):
    """A sentence."""

    words = forms.CharField(max_length=2000)


class TickForm(forms.Form):
    """A line of the card, ticked or not."""

    words = forms.CharField(max_length=200)
    on = forms.BooleanField(required=False)


class AimForm(forms.Form):
    """How far the phone was off when it aimed at something known, degrees."""

    name = forms.CharField(max_length=60)
    azimuth = forms.FloatField(min_value=-180, max_value=180)
    altitude = forms.FloatField(min_value=-90, max_value=90)


class SkylineForm(forms.Form):
    """Corners of a skyline: azimuth and altitude in degrees of each."""

    points = forms.JSONField()

    def clean_points(self) -> list[list[float]]:
        """Pairs within the compass and the sky."""
        given = self.cleaned_data["points"]
        try:
            pairs = [[float(a) % 360, float(h)] for a, h in given]
        except (TypeError, ValueError) as error:
            raise forms.ValidationError("not a list of pairs of numbers") from error
        if not 2 <= len(pairs) <= MOST or not all(-30 <= h <= 90 and math.isfinite(a) for a, h in pairs):
            raise forms.ValidationError(f"not 2 to {MOST} places over or near the horizon")
        return pairs


class MarkForm(forms.Form):
    """Something seen in a direction: a landmark or a lamp, degrees."""

    name = forms.CharField(max_length=60)
    azimuth = forms.FloatField(min_value=0, max_value=360)
    altitude = forms.FloatField(min_value=-30, max_value=90)


class AnswerForm(forms.Form):
    """An answer about the test shot, and what followed from all of them."""

    words = forms.CharField(max_length=400)


def _timed(shot: Shot, data: Data) -> None:
    shot.timed = dict(data)
    shot.save(update_fields=["timed"])


def _lesson(shot: Shot, data: Data) -> None:
    """Added to what stands there already."""
    words = str(data["words"])
    if words not in shot.lesson:
        shot.lesson = f"{shot.lesson} {words}".strip()[:2000]
        shot.save(update_fields=["lesson"])


def _skyline(shot: Shot, data: Data) -> None:
    shot.site.add_skyline([(a, h) for a, h in data["points"]])


def _landmark(shot: Shot, data: Data) -> None:
    shot.site.add_landmark(str(data["name"]), float(data["azimuth"]), float(data["altitude"]))


def _lamp(shot: Shot, data: Data) -> None:
    """A lamp where it was seen; one of the same name near there is that one, seen anew."""
    name, azimuth = str(data["name"]), float(data["azimuth"])
    for there in StrayLight.objects.filter(site=shot.site, words=name):
        if abs((there.azimuth - azimuth + 180) % 360 - 180) < SAME_LAMP:
            there.azimuth = azimuth
            there.save(update_fields=["azimuth"])
            return
    StrayLight.objects.create(site=shot.site, words=name, azimuth=azimuth)


KINDS: dict[str, tuple[type[forms.Form], Callable[[Shot, Data], None] | None]] = {
    "note": (WordsForm, None),
    "lesson": (WordsForm, _lesson),
    "tick": (TickForm, None),
    "aim": (AimForm, None),
    "answer": (AnswerForm, None),
    "horizon": (SkylineForm, _skyline),
    "landmark": (MarkForm, _landmark),
    "lamp": (MarkForm, _lamp),
    "timed": (TimedForm, _timed),
}


def take_in(shot: Shot, text: bytes) -> list[str]:
    """Store what was sent; the keys of what was stored, now or before, or can never be. BadInput when it is
    not in the form that the field pages send."""
    if len(text) > LARGEST:
        raise BadInput(f"more than {LARGEST // 1024} kB of notes at a time")
    data = read_json(text.decode(errors="replace"), "the notes")
    if not isinstance(data, dict):
        raise BadInput("the notes are no JSON object")
    notes = data.get("notes")
    if not isinstance(notes, list) or len(notes) > MOST:
        raise BadInput(f"the notes are no list of at most {MOST}")
    moved = _clock_error(data.get("now"))
    return [str(note["key"])[:36] for note in notes if _stored(shot, note, moved)]


def _clock_error(now: object) -> float:
    """By how many s the phone's clock is late; nothing within two minutes."""
    late = time.time() - float(now) if isinstance(now, int | float) else 0.0
    return late if math.isfinite(late) and abs(late) > CLOCK_OFF else 0.0


def _stored(shot: Shot, note: object, moved: float) -> bool:
    """Whether a note was dealt with; one that is not what a page sends is dealt with by leaving it."""
    if not isinstance(note, dict) or not isinstance(note.get("key"), str) or not note["key"]:
        return False
    kind, at, given = note.get("kind"), note.get("at"), note.get("data")
    if kind not in KINDS or not isinstance(given, dict):
        return True
    if not isinstance(at, int | float) or not math.isfinite(at):
        return True
    if abs(time.time() - at - moved) > OLDEST:
        moved = time.time() - at
    form, act = KINDS[kind]
    try:
        clean = checked(form(_moved(given, moved))).cleaned_data
    except BadInput:
        return True
    _, new = FieldNote.objects.get_or_create(
        shot=shot, key=note["key"][:36], defaults={"kind": kind, "at": at + moved, "data": clean}
    )
    if new and act is not None:
        act(shot, clean)
    return True


def _moved(given: Data, moved: float) -> Data:
    named = [n for n in ("start", "end") if isinstance(given.get(n), int | float)]
    return given | {n: given[n] + moved for n in named}
