"""Two people, or two windows, at one form: the later one is told what changed meanwhile and loses nothing
typed.

A page carries what its form was opened with. When that is not what is stored any more, nothing is stored: the
form comes back with what was typed, with the other's values where nothing was typed, and with a list of what
changed. Saving again stores it.
"""

import hashlib
import json
from dataclasses import dataclass

from django import forms
from django.http import QueryDict

from vinter.core.errors import BadInput
from vinter.core.json_input import read_json

BASE = "opened_with"


@dataclass(frozen=True)
class Change:
    """A field that changed meanwhile: what it is now, and whether this person changed it too."""

    label: str
    now: str
    typed_too: bool


def _values(form: forms.BaseForm) -> dict[str, object]:
    """What the fields of an unbound form show, as plain data."""
    return json.loads(json.dumps({f.name: f.value() for f in form}, default=str))  # type: ignore[no-any-return]


def opened_with(form: forms.BaseForm) -> str:
    """What a form shows of what is stored, for the page to carry; ``form`` is unbound."""
    return json.dumps(_values(form))


def _shown(value: object) -> str:
    if value in (None, "", []):
        return "empty"
    if isinstance(value, bool):
        return "yes" if value else "no"
    return ", ".join(map(str, value)) if isinstance(value, list) else str(value)


def changes_since(fresh: forms.BaseForm, posted: QueryDict) -> tuple[QueryDict, list[Change]]:
    """What was posted, with the stored values in fields this person left alone; and what changed since the
    page was opened. ``fresh`` is the unbound form of what is stored now."""
    data = posted.copy()
    try:
        base = read_json(posted.get(BASE, ""), BASE)
    except BadInput:
        return data, []
    if not isinstance(base, dict):
        return data, []
    changes = []
    for name, now in _values(fresh).items():
        if name not in base or base[name] == now:
            continue
        field = fresh.fields[name]
        typed = field.has_changed(
            base[name], field.widget.value_from_datadict(posted, {}, fresh.add_prefix(name))
        )
        if not typed:
            data.pop(name, None)
            if isinstance(now, list):
                data.setlist(name, [str(v) for v in now])
            elif now is True:
                data[name] = "on"
            elif now not in (None, False):
                data[name] = str(now)
        changes.append(Change(str(fresh[name].label), _shown(now), typed))
    return data, changes


def mark_of(data: object) -> str:
    """A short name of stored data, to tell whether they are still the same."""
    return hashlib.sha256(json.dumps(data, sort_keys=True, default=str).encode()).hexdigest()[:16]
