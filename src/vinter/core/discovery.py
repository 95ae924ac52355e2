"""Loading every module of a folder, so that what registers itself there is known."""

from importlib import import_module
from pkgutil import iter_modules
from types import ModuleType


def load_all(package: ModuleType, but: tuple[str, ...] = ()) -> None:
    """Import the modules of a package in the order of their names, except those named."""
    for found in iter_modules(package.__path__):
        if found.name not in but:
            import_module(f"{package.__name__}.{found.name}")
