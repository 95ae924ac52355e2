"""What every test begins with, made once in a process and put back for the tests that follow."""

import shutil
from copy import deepcopy

from django.apps import apps
from django.contrib.auth import get_user_model
from django.db import transaction


class KeptRows:
    """Rows that a function stores in an empty home: the first time it makes them, later they are put back as
    they were."""

    def __init__(self, make):
        self.make, self.rows = make, []

    def put(self):
        if get_user_model().objects.exists():
            self.make()
        elif self.rows:
            with transaction.atomic():
                for model, rows in self.rows:
                    model._base_manager.bulk_create(deepcopy(rows))
        else:
            empty = [m for m in apps.get_models() if not m._base_manager.exists()]
            self.make()
            self.rows = [(m, rows) for m in empty if (rows := list(m._base_manager.all()))]


def kept_files(make, folder):
    """A function like ``make(source, told, out)`` that writes what it wrote before of a source as a copy."""

    def made(source, told, out):
        own = folder / source.stem
        if not own.is_dir():
            before = set(out.parent.iterdir())
            make(source, told, out)
            own.mkdir()
            for path in set(out.parent.iterdir()) - before:
                shutil.copyfile(path, own / path.name)
        else:
            shutil.copytree(own, out.parent, dirs_exist_ok=True)

    return made
