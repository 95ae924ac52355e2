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


def content_kind(head: bytes) -> str | None:
    """Kind of a file by its first bytes: tiff (DNG included), jpeg, png, heif or None."""
    if head[4:8] == b"ftyp":
        return "heif"
    return next((kind for magic, kind in MAGIC.items() if head.startswith(magic)), None)


def check_content(name: str, head: bytes) -> None:
    """BadInput unless the first bytes fit the name's suffix and the kind is one we read."""
    kind = content_kind(head)
    suffix = Path(name).suffix.lower()
    if kind is None:
        raise BadInput(
            f"{name}: not a DNG, TIFF, JPEG, PNG or HEIF file (its first bytes are of another kind)"
        )
    if suffix not in ALLOWED[kind]:
        raise BadInput(f"{name}: its content is {kind.upper()}, its name says {suffix or 'nothing'}")
