"""The commands that work on a home of the web application: serving, accounts, backups, archives."""

import argparse
import os
import sys
from collections.abc import Callable
from getpass import getpass
from pathlib import Path

from vinter.core.errors import BadInput


def _serve(a: argparse.Namespace) -> None:
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "vinter.web.settings")
    from vinter.web.serve import serve

    serve(a.host, a.port, a.phone)


def _web() -> None:
    """The web application's settings and its database, brought up to date."""
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "vinter.web.settings")
    import django

    django.setup()
    from vinter.web.serve import prepare

    prepare()


def _password() -> str:
    """A password asked for twice, or the first line of what is piped in."""
    if not sys.stdin.isatty():
        return sys.stdin.readline().rstrip("\n")
    first, second = getpass("Password: "), getpass("Once more: ")
    if first != second:
        raise BadInput("the two passwords differ; nothing was changed")
    return first


def _account(a: argparse.Namespace) -> None:
    _web()
    from vinter.web.accounts import people

    if a.what == "add":
        people.add(a.name, _password())
        print(f"{a.name}: account made")
    elif a.what == "password":
        people.set_password(people.person(a.name).username, _password())
        print(f"{a.name}: password changed")
    elif a.what == "owner":
        people.make_owner(people.person(a.name))
        print(f"{a.name}: owns this Vinter now")
    else:
        people.delete(people.person(a.name))
        print(f"{a.name}: account deleted, with everything in it")


def _backup(a: argparse.Namespace) -> None:
    _web()
    from vinter.web.keeping import backup

    count, gone = backup(a.file)
    print(f"{a.file}: {count} files" + (f"; {gone} were deleted meanwhile and are not in it" if gone else ""))


def _check(a: argparse.Namespace) -> None:
    os.environ.setdefault("DJANGO_SETTINGS_MODULE", "vinter.web.settings")
    import django

    django.setup()
    from vinter.web.watch import findings

    found = findings()
    for one in found:
        print(f"{'ok   ' if one.right else 'WRONG'} {one.name}: {one.words}")
    if not all(one.right for one in found):
        sys.exit(1)


def _restore(a: argparse.Namespace) -> None:
    _web()
    from vinter.web.keeping import restore

    count = restore(a.file)
    _web()
    print(f"{a.file}: {count} files restored")


def _archive(a: argparse.Namespace) -> None:
    _web()
    from vinter.web.accounts.people import person
    from vinter.web.archive.writing import write_archive

    if not a.out.parent.is_dir():
        raise BadInput(f"{a.out.parent}: no such folder")
    print(f"{a.out}: {write_archive(person(a.name), a.out, not a.without_originals)} files")


def _import_archive(a: argparse.Namespace) -> None:
    _web()
    from vinter.web.accounts.people import named_or_new
    from vinter.web.archive.reading import about, read_archive

    user, is_new = named_or_new(a.to or about(a.file)["name"])
    for kind, count in read_archive(a.file, user).items():
        print(f"{kind}: {count}")
    if is_new:
        print(f"the account {user.username!r} is new: give it a password with 'vinter account password'")


def _import(a: argparse.Namespace) -> None:
    _web()
    from vinter.web.takes.intake import import_folder

    take, said = import_folder(a.folder, a.user, a.title, a.by_night)
    for name, words in said.items():
        print(f"{name}: {words.removeprefix(f'{name}: ')}")
    print(
        f"take {take.pk}, {take.title!r}: {take.frame_set.count()} frames, to be measured by the running "
        "worker"
    )


def home_commands(add: Callable[..., argparse.ArgumentParser]) -> None:
    """Add them to the command line."""
    p = add("serve", _serve, "start the web application and its worker")
    p.add_argument("--host", default="127.0.0.1")
    p.add_argument("--port", type=int, default=8765)
    p.add_argument("--phone", action="store_true", help="also by HTTPS on the home network, for a phone")
    p = add("account", _account, "make an account, give it a new password, make it an owner, or delete it")
    p.add_argument("what", choices=["add", "password", "owner", "delete"])
    p.add_argument("name")
    p = add("archive", _archive, "everything a person owns as one ZIP file in open formats")
    p.add_argument("name")
    p.add_argument("-o", dest="out", type=Path, required=True, metavar="FILE.zip")
    p.add_argument("--without-originals", action="store_true", help="leave out the frames as taken")
    p = add("import-archive", _import_archive, "an archive into an account: its own name's, or another's")
    p.add_argument("file", type=Path)
    p.add_argument("--to", metavar="NAME", help="the account it goes to; made when there is none")
    p = add("backup", _backup, "everything of this home as one ZIP file, while it runs")
    p.add_argument("file", type=Path)
    add("check", _check, "whether this home is as docs/operating.md wants it; exit 1 when something is wrong")
    p = add("restore", _restore, "a backup over what is here, while it runs")
    p.add_argument("file", type=Path)
    p = add("import", _import, "take a folder of frames on this machine into the web application")
    p.add_argument("folder", type=Path)
    p.add_argument("--user", required=True, metavar="NAME")
    p.add_argument("--title", default="")
    p.add_argument("--by-night", action="store_true", help="a take for every night in it")
