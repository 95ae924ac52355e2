"""Kinds of files: one list of what each is called, how it begins, by which name it comes, who reads it and
where it is taken. Upload, pages, doctor and takes ask it."""

from dataclasses import dataclass
from enum import StrEnum
from pathlib import Path

from vinter.core.errors import BadInput

HEAD_BYTES = 16  # bytes from which a kind is told


class Reader(StrEnum):
    """Who reads a file: the RAW readers, those of pictures, of FITS, of films."""

    RAW = "raw"
    PICTURE = "picture"
    FITS = "fits"
    FILM = "film"


@dataclass(frozen=True, kw_only=True)
class FileKind:
    """A kind of file: key, name in words, suffixes, and its first bytes (``brands`` of an ISO
    container's)."""

    key: str
    name: str
    suffixes: tuple[str, ...]
    reader: Reader
    starts: tuple[bytes, ...] = ()
    brands: tuple[bytes, ...] = ()

    def begins(self, head: bytes) -> bool:
        """Whether a file with these first bytes is of the kind."""
        if head[4:8] == b"ftyp":
            return head[8:12].startswith(self.brands) if self.brands else False
        return head.startswith(self.starts) if self.starts else False


TIFF = (b"II*\0", b"MM\0*")
HEIF_BRANDS = (b"mif1", b"mif2", b"msf1", b"hei", b"hev")
KINDS = (
    FileKind(
        key="tiff-raw",
        name="DNG or another RAW in TIFF's form",
        suffixes=(".dng", ".nef", ".nrw", ".arw", ".sr2", ".cr2", ".pef", ".srw"),
        reader=Reader.RAW,
        starts=TIFF,
    ),
    FileKind(key="cr3", name="CR3 RAW", suffixes=(".cr3",), reader=Reader.RAW, brands=(b"crx ",)),
    FileKind(key="raf", name="RAF RAW", suffixes=(".raf",), reader=Reader.RAW, starts=(b"FUJIFILMCCD-RAW",)),
    FileKind(key="rw2", name="RW2 RAW", suffixes=(".rw2",), reader=Reader.RAW, starts=(b"IIU\0",)),
    FileKind(
        key="orf", name="ORF RAW", suffixes=(".orf",), reader=Reader.RAW, starts=(b"IIRO", b"IIRS", b"MMOR")
    ),
    FileKind(key="tiff", name="TIFF", suffixes=(".tif", ".tiff"), reader=Reader.PICTURE, starts=TIFF),
    FileKind(
        key="jpeg",
        name="JPEG",
        suffixes=(".jpg", ".jpeg", ".mpo"),
        reader=Reader.PICTURE,
        starts=(b"\xff\xd8\xff",),
    ),
    FileKind(key="png", name="PNG", suffixes=(".png",), reader=Reader.PICTURE, starts=(b"\x89PNG",)),
    FileKind(
        key="heif",
        name="HEIF",
        suffixes=(".heic", ".heif", ".hif"),
        reader=Reader.PICTURE,
        brands=HEIF_BRANDS,
    ),
    FileKind(
        key="avif",
        name="AVIF",
        suffixes=(".avif",),
        reader=Reader.PICTURE,
        brands=(b"avif", b"avis", *HEIF_BRANDS),
    ),
    FileKind(
        key="fits",
        name="FITS",
        suffixes=(".fits", ".fit", ".fts"),
        reader=Reader.FITS,
        starts=(b"SIMPLE  =",),
    ),
    FileKind(
        key="film",
        name="a film",
        suffixes=(".mp4", ".mov", ".m4v", ".webm", ".mkv", ".avi"),
        reader=Reader.FILM,
        starts=(b"\x1a\x45\xdf\xa3", b"RIFF"),
        brands=(b"",),
    ),
)


def _suffixes(*readers: Reader) -> frozenset[str]:
    return frozenset(s for kind in KINDS if kind.reader in readers for s in kind.suffixes)


FILMS = _suffixes(Reader.FILM)
RAWS = _suffixes(Reader.RAW)
FRAMES = _suffixes(Reader.RAW, Reader.PICTURE, Reader.FITS)


def accepted(*readers: Reader) -> str:
    """Suffixes for a form that takes files of some readers (all frames when none is named)."""
    return ",".join(sorted(_suffixes(*readers) if readers else FRAMES))


def kinds_of(head: bytes) -> list[FileKind]:
    """Kinds that a file with these first ``HEAD_BYTES`` can be of, the narrower first; a film is one that no
    kind of picture claims."""
    if head.startswith(b"RIFF") and head[8:12] != b"AVI ":
        return []
    found = [kind for kind in KINDS if kind.begins(head)]
    return [kind for kind in found if kind.reader != Reader.FILM] or found


def kind_of_file(name: str, head: bytes) -> FileKind | None:
    """The kind that first bytes and suffix of a file agree on; None where they do not."""
    suffix = Path(name).suffix.lower()
    return next((kind for kind in kinds_of(head) if suffix in kind.suffixes), None)


def content_words(head: bytes) -> str:
    """What a file is by its first bytes, in words; empty where they say nothing known."""
    return " or ".join(dict.fromkeys(kind.name for kind in kinds_of(head)))


def check_content(name: str, head: bytes, films: bool = False) -> None:
    """BadInput unless the first ``HEAD_BYTES`` fit the name's suffix and the kind is one that is read, a film
    only where one is taken."""
    found, kind = kinds_of(head), kind_of_file(name, head)
    suffix = Path(name).suffix.lower()
    if any(one.reader == Reader.FILM for one in found) and not films:
        raise BadInput(f"{name}: a film, where a picture is wanted")
    if not found:
        words = "not a DNG or another RAW, TIFF, JPEG, PNG, HEIF or FITS file"
        raise BadInput(f"{name}: {words} (its first bytes are of another kind)")
    if kind is None:
        raise BadInput(f"{name}: its content is {content_words(head)}, its name says {suffix or 'nothing'}")
