"""Taking files into a take, from an upload or from a folder on this machine: judged by content, kept once,
never changed."""

import hashlib
import secrets
import shutil
from pathlib import Path

from django.conf import settings
from django.contrib.auth import get_user_model
from django.core.files.uploadedfile import UploadedFile
from django.db import IntegrityError, transaction

from vinter.core.errors import BadInput
from vinter.core.formats.whole import DISK_FULL, check_room
from vinter.core.frames.content import FILMS, FRAMES, HEAD_BYTES, check_content
from vinter.core.frames.motion import SUFFIXES, film_inside
from vinter.web.jobs.models import enqueue
from vinter.web.quota import OverQuota, check_quota
from vinter.web.takes.models import Frame, Take

PARTIAL = "partial"  # folder of a take in which the bytes of uploads gather


class Refused(Exception):
    """A file that is not taken; says why, and with which status."""

    def __init__(self, words: str, status: int = 400) -> None:
        super().__init__(words)
        self.status = status


def room_for(owner: int, name: str, size: int) -> None:
    """Refuse what is empty, too large, or more than the disk holds."""
    if size <= 0:
        raise Refused(f"{name}: the file is empty")
    if size > settings.UPLOAD_LIMIT:
        raise Refused(f"{name}: larger than {settings.UPLOAD_LIMIT // 2**20} MB")
    try:
        check_quota(owner, size)
    except OverQuota as error:
        raise Refused(f"{name}: {error}", 507) from error
    try:
        check_room(settings.HOME, size)
    except OSError as error:
        raise Refused(f"{name}: {DISK_FULL}", 507) from error


def taken_in(one: Take, name: str, whole: Path, sent: str = "") -> dict[str, object]:
    """Store a received file under a generated name; a duplicate is recognised by its content and kept once.
    Refused, with nothing kept, when its SHA-256 is not the one that was ``sent`` with it."""
    digest = hashlib.sha256()
    with whole.open("rb") as file:
        start = file.read(HEAD_BYTES)
        file.seek(0)
        while chunk := file.read(2**20):
            digest.update(chunk)
    if sent and sent != digest.hexdigest():
        whole.unlink()
        raise Refused(f"{name}: it did not arrive as it was sent; nothing of it was kept, send it again", 409)
    try:
        check_content(name, start, films=True)
    except BadInput as error:
        whole.unlink()
        raise Refused(str(error)) from error
    stored = f"{secrets.token_hex(8)}{Path(name).suffix.lower()}"
    try:
        with transaction.atomic():
            Frame.objects.create(
                take=one, name=name, stored=stored, size=whole.stat().st_size, digest=digest.hexdigest()
            )
            whole.rename(one.folder / stored)
    except IntegrityError:
        whole.unlink()
        Frame.everything.filter(take=one, digest=digest.hexdigest()).update(binned=None)
        return {"name": name, "duplicate": True}
    _film_behind(one, name, one.folder / stored)
    return {"name": name, "duplicate": False}


def _film_behind(one: Take, name: str, path: Path) -> None:
    """Store the film of a motion picture beside its still; the picture's own file stays as it is."""
    if path.suffix.lower() not in SUFFIXES or (inside := film_inside(path)) is None:
        return
    film = partial(one, secrets.token_hex(8))
    with path.open("rb") as file, film.open("wb") as out:
        file.seek(inside[0])
        shutil.copyfileobj(file, out, 2**20)
        out.truncate(inside[1] - inside[0])
    taken_in(one, f"{Path(name).stem}.mp4", film)


def take_in_upload(one: Take, name: str, file: "UploadedFile[bytes]") -> dict[str, object]:
    """Store a file that came whole with a request."""
    room_for(one.owner_id, name, file.size or 0)
    whole = partial(one, secrets.token_hex(8))
    with whole.open("wb") as out:
        for chunk in file.chunks():
            out.write(chunk)
    return taken_in(one, name, whole)


def partial(one: Take, key: str) -> Path:
    """Where the bytes of an upload gather until it is whole."""
    folder = one.folder / PARTIAL
    folder.mkdir(parents=True, exist_ok=True)
    return folder / f"{key}.part"


def import_folder(
    folder: Path, username: str, title: str = "", by_night: bool = False
) -> tuple[Take, dict[str, str]]:
    """A new take of a person from a folder's frames, copied; returns it with what became of each file.

    Files of other kinds are passed over with the reason; the measuring is queued, which then makes a take of
    every night when asked to. BadInput without person, folder or frames.
    """
    owner = get_user_model().objects.filter(username=username).first()
    if owner is None:
        raise BadInput(f"{username!r}: no such person here")
    if not folder.is_dir():
        raise BadInput(f"{folder}: no such folder")
    suffixes = FRAMES | FILMS
    files = sorted(p for p in folder.iterdir() if p.is_file() and p.suffix.lower() in suffixes)
    if not files:
        raise BadInput(f"{folder}: no frames in it ({', '.join(sorted(suffixes))})")
    one = Take.objects.create(
        owner=owner,
        kind=Take.UPLOADED,
        title=(title or folder.resolve().name)[:120],
        simulation_overrides={"by_night": True} if by_night else {},
    )
    results = {}
    for path in files:
        try:
            room_for(owner.pk, path.name, path.stat().st_size)
            copy = partial(one, secrets.token_hex(8))
            shutil.copyfile(path, copy)
            results[path.name] = (
                "already there" if taken_in(one, path.name, copy)["duplicate"] else "taken in"
            )
        except Refused as error:
            results[path.name] = str(error)
    if not one.frame_set.exists():
        one.delete()
        raise BadInput("; ".join(results.values()))
    enqueue(owner, "measure", one.pk)
    return one, results
