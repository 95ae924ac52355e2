"""What kind a file is by its first bytes, before anything decodes it."""

from pathlib import Path

from vinter.core.errors import BadInput

MAGIC = {b"II*\0": "tiff", b"MM\0*": "tiff", b"\xff\xd8\xff": "jpeg", b"\x89PNG": "png"}
ALLOWED = {
    "tiff": {".dng", ".tif", ".tiff", ".nef", ".arw", ".cr2", ".pef", ".srw"},
    "jpeg": {".jpg", ".jpeg"},
    "png": {".png"},
    "heif": {".heic", ".heif", ".hif", ".avif"},
}
FILMS = {".mp4", ".mov", ".m4v", ".webm", ".mkv", ".avi"}
PICTURE_BRANDS = {b"mif1", b"mif2", b"msf1", b"avif", b"avis"}  # and all that begin with "hei" or "hev"
HEAD_BYTES = 12  # from which a kind is told


def content_kind(head: bytes) -> str | None:
    """Kind of a file by its first ``HEAD_BYTES``: tiff (DNG included), jpeg, png, heif, film or None."""
    if head[4:8] == b"ftyp":
        brand = head[8:12]
        return "heif" if brand in PICTURE_BRANDS or brand[:3] in (b"hei", b"hev") else "film"
    if head.startswith(b"\x1a\x45\xdf\xa3") or (head[:4] == b"RIFF" and head[8:12] == b"AVI "):
        return "film"
    return next((kind for magic, kind in MAGIC.items() if head.startswith(magic)), None)


def check_content(name: str, head: bytes, films: bool = False) -> None:
    """BadInput unless the first ``HEAD_BYTES`` fit the name's suffix and the kind is one we read, a film only
    where one is taken."""
    kind = content_kind(head)
    suffix = Path(name).suffix.lower()
    if kind == "film" and films and suffix in FILMS:
        return
    if kind == "film" and not films:
        raise BadInput(f"{name}: a film, where a picture is wanted")
    if kind is None:
        raise BadInput(
            f"{name}: not a DNG, TIFF, JPEG, PNG or HEIF file (its first bytes are of another kind)"
        )
    if suffix not in ALLOWED.get(kind, ()):
        raise BadInput(f"{name}: its content is {kind.upper()}, its name says {suffix or 'nothing'}")
