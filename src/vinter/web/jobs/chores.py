"""Small work that comes round by itself: an app registers it when it is loaded, the worker does it every few
minutes."""

import logging

from django.utils.module_loading import import_string

EVERY_SECONDS = 300.0
log = logging.getLogger("vinter.chores")
_CHORES: list[str] = []


def register_chore(path: str) -> None:
    """Name a function without arguments, as a dotted path."""
    if path not in _CHORES:
        _CHORES.append(path)


def do_chores() -> None:
    """Do all of them; one that fails is noted and does not keep the others from being done."""
    for path in _CHORES:
        try:
            import_string(path)()
        except Exception:
            log.exception("the chore %s failed", path)
