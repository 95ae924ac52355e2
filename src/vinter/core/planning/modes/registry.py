"""All modes by key, and planning with one of them.

Every module of this folder is loaded and registers its modes with ``basis.mode``; a new mode touches no other
file.
"""

from dataclasses import replace

from vinter.core.discovery import load_all
from vinter.core.errors import BadInput
from vinter.core.planning import modes
from vinter.core.planning.modes.basis import REGISTERED, Basis, Mode, ModePlan
from vinter.core.sky.satellites import Pass

load_all(modes, but=("registry",))
MODES: dict[str, Mode] = dict(sorted(REGISTERED.items(), key=lambda item: item[1].place))


def values(mode: Mode, given: dict[str, str | float]) -> dict[str, float]:
    """A mode's options from text, each within its bounds; BadInput names the one that is not."""
    out = {}
    for option in mode.options:
        text = given.get(option.key, "")
        try:
            value = option.default if text in ("", None) else float(text)
        except ValueError as error:
            raise BadInput(f"{option.label}: {text!r} is not a number") from error
        if not option.low <= value <= option.high:
            raise BadInput(f"{option.label}: {value:g} is not within {option.low:g} to {option.high:g}")
        out[option.key] = value
    return out


def mode_of(key: str) -> Mode:
    """A mode by its key; BadInput when there is none."""
    if key not in MODES:
        raise BadInput(f"mode {key!r} is not one of {', '.join(MODES)}")
    return MODES[key]


def plan_mode(key: str, basis: Basis, given: dict[str, str | float], passing: Pass | None = None) -> ModePlan:
    """The plan of a mode by its key; ``passing`` is the pass for those that need one."""
    found = mode_of(key)
    return found.plan(replace(basis, passing=passing), values(found, given))
