"""Opening a file of unknown origin in a child process with limits on memory and time.

Run as ``python -m vinter.core.frames.sandbox FILE``: prints kind and size, or one line on what is wrong.
"""

import resource
import subprocess
import sys
from pathlib import Path

from vinter.core.errors import BadInput

MEMORY_BYTES = 4 * 2**30
CPU_SECONDS = 60
MAGIC = {b"II*\0": "tiff", b"MM\0*": "tiff", b"\xff\xd8\xff": "jpeg", b"\x89PNG": "png"}
ALLOWED = {
    "tiff": {".dng", ".tif", ".tiff", ".nef", ".arw", ".cr2", ".pef", ".srw"},
    "jpeg": {".jpg", ".jpeg"},
    "png": {".png"},
    "heif": {".heic", ".heif"},
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


def probe(path: Path, label: str) -> None:
    """Decode a file once in a limited child; BadInput (with ``label`` as its name) when that fails."""
    command = [sys.executable, "-m", "vinter.core.frames.sandbox", str(path)]
    try:
        done = subprocess.run(command, capture_output=True, text=True, timeout=CPU_SECONDS * 2)
    except subprocess.TimeoutExpired as error:
        raise BadInput(f"{label}: took too long to open") from error
    if done.returncode == 2:
        # the decoding libraries chat on the same channel, with the file's whole path: the last line is ours
        lines = [line for line in done.stderr.splitlines() if line.strip()] or [f"{label}: cannot be read"]
        raise BadInput(lines[-1].replace(path.name, label))
    if done.returncode:
        raise BadInput(f"{label}: opening it needs more memory or time than a frame may take")


def main(argv: list[str]) -> int:
    """Limit this process, then decode."""
    resource.setrlimit(resource.RLIMIT_AS, (MEMORY_BYTES, MEMORY_BYTES))
    resource.setrlimit(resource.RLIMIT_CPU, (CPU_SECONDS, CPU_SECONDS))
    from vinter.core.frames.reading import read_frame

    try:
        frame = read_frame(Path(argv[0]))
    except BadInput as error:
        print(error, file=sys.stderr)
        return 2
    except MemoryError:
        return 3
    print(frame.kind, *frame.size)
    return 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
