"""Files that come in parts: how far one has come, and the next part of it, one window at a time."""

import fcntl
import os
import re
import secrets
from dataclasses import dataclass
from pathlib import Path

from django import forms
from django.http import HttpRequest

from vinter.core.errors import BadInput
from vinter.web.file_state import state_of


class PartForm(forms.Form):
    """Size of the whole file and where a part begins, in bytes; the file's SHA-256 where the browser can make
    one."""

    size = forms.IntegerField(min_value=0)
    offset = forms.IntegerField(min_value=0)
    digest = forms.RegexField(r"^[0-9a-f]{64}$", required=False)


@dataclass(frozen=True)
class Part:
    """What became of a part of an upload: bytes that are here now, whether the part was added, and where the
    file lies when that completed it."""

    here: int
    added: bool
    whole: Path | None = None


def append(path: Path, data: bytes, offset: int, size: int) -> Part:
    """Add a part to an upload of ``size`` bytes at the offset it names, one window at a time. A part at
    another offset, or that leads beyond the file, is not added. What is complete moves away at once, so that
    two windows never write to one file."""
    with path.open("ab") as out:
        fcntl.flock(out, fcntl.LOCK_EX)
        there = state_of(path)
        if there is None or not os.path.samestat(there, os.fstat(out.fileno())):
            return Part(0, added=False)  # another window completed it while this one waited
        here = os.fstat(out.fileno()).st_size
        if offset != here or here + len(data) > size:
            return Part(here, added=False)
        out.write(data)
        out.flush()
        here += len(data)
        if here < size:
            return Part(here, added=True)
        whole = path.with_suffix(f".{secrets.token_hex(4)}.whole")
        path.rename(whole)
        return Part(here, added=True, whole=whole)


@dataclass(frozen=True)
class Asked:
    """What a request asks of an upload: where its bytes gather, how many are here, and by POST the file's
    name, size, where the part begins and the file's SHA-256."""

    path: Path
    here: int
    name: str = ""
    size: int = 0
    offset: int = 0
    digest: str = ""


def asked(request: HttpRequest, folder: Path) -> Asked:
    """What the address of a part says, with ``folder`` for where parts gather; BadInput when it says none."""
    key = request.GET.get("id", "")
    if not re.fullmatch(r"[0-9a-f]{8,64}", key):
        raise BadInput("the upload's id must be hexadecimal")
    folder.mkdir(parents=True, exist_ok=True)
    path = folder / f"{key}.part"
    there = state_of(path)
    here = there.st_size if there else 0
    if request.method != "POST":
        return Asked(path, here)
    form = PartForm(request.GET)
    if not form.is_valid():
        raise BadInput("size and offset are wanted as whole numbers")
    return Asked(path, here, Path(request.GET.get("name", "")).name[:200], **form.cleaned_data)
