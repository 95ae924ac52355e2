"""An empty database gets its tables at once: the same that all migrations one after the other make."""

import os
import sqlite3
import subprocess
import sys

import pytest

FIRST_OF_ALL = """
import django; django.setup()
from django.db import connection
from django.db.migrations.executor import MigrationExecutor
executor = MigrationExecutor(connection)
executor.migrate([("gear", "0001_initial")])
"""
AT_ONCE = """
import django; django.setup()
from django.core.management import call_command
call_command("migrate", verbosity=0)
"""


def tables(path):
    """Of every table its columns, its unique and plain indexes, what it refers to and its rules."""
    out = {}
    with sqlite3.connect(path) as base:
        for name, made in base.execute("SELECT name, sql FROM sqlite_master WHERE type = 'table'"):
            if name.startswith("sqlite_"):
                continue
            columns = {row[1:] for row in base.execute(f"PRAGMA table_info('{name}')")}
            indexes = sorted(
                (unique, tuple(c[2] for c in base.execute(f"PRAGMA index_info('{index}')")), partial)
                for _, index, unique, _, partial in base.execute(f"PRAGMA index_list('{name}')")
            )
            refers = {row[2:] for row in base.execute(f"PRAGMA foreign_key_list('{name}')")}
            out[name] = columns, indexes, refers, made.count("CHECK"), made.count("AUTOINCREMENT")
    return out


def applied(path):
    with sqlite3.connect(path) as base:
        return set(base.execute("SELECT app, name FROM django_migrations"))


def run(code, path):
    environment = {**os.environ, "VINTER_DB": str(path)}
    subprocess.run([sys.executable, "-c", code], env=environment, check=True, timeout=300)


@pytest.mark.long("every migration is run")
def test_tables_made_at_once_are_those_that_an_old_home_gets_step_by_step(tmp_path):
    """The rows of an old home need every step; an empty one is given its tables at once."""
    run(FIRST_OF_ALL, tmp_path / "old")
    user = {
        "id": 1, "password": "x", "is_superuser": 0, "username": "old hand", "first_name": "",
        "last_name": "", "email": "", "is_staff": 0, "is_active": 1, "date_joined": "2026-01-01",
        "last_login": "2026-01-01",
    }  # fmt: skip
    with sqlite3.connect(tmp_path / "old") as base:
        marks = ", ".join("?" for _ in user)
        base.execute(f"INSERT INTO auth_user ({', '.join(user)}) VALUES ({marks})", [*user.values()])
        base.execute("INSERT INTO gear_phone (id, key, name, lenses, owner_id) VALUES (1, 'p', 'P', '{}', 1)")
    run(AT_ONCE, tmp_path / "old")
    with sqlite3.connect(tmp_path / "old") as base:
        assert base.execute("SELECT name FROM gear_phone").fetchall() == [("P",)]
    run(AT_ONCE, tmp_path / "once")
    one, other = tables(tmp_path / "old"), tables(tmp_path / "once")
    assert set(one) == set(other) and "stacks_stack" in one
    for name in one:
        assert one[name] == other[name], name
    assert applied(tmp_path / "old") == applied(tmp_path / "once")
    with sqlite3.connect(tmp_path / "once") as base:  # what follows on migrations was done too
        assert base.execute("SELECT count(*) FROM django_content_type").fetchone()[0] > 20
    run(AT_ONCE, tmp_path / "once")  # nothing is left to do
