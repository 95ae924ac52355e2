"""The frames of a folder, told from what Vinter itself made."""

from pathlib import Path

from vinter.core.errors import BadInput
from vinter.core.frames.content import FRAMES

HEADER_BYTES = 2**16
# bytes in a stack's description, as the writer of an export puts them there
OWN_MARKS = (b'"vinter": "stack"', b"Vinter\0")
MASKS = (".mask.png", ".left-out.png")
OWN_COMPANIONS = (*MASKS, ".png")


def _own_outputs(files: list[Path]) -> set[Path]:
    """Those of a folder's files that Vinter itself wrote from frames: stacks and exports by what they say of
    themselves, and what lies beside them under their name."""
    made = set()
    for path in files:
        with path.open("rb") as file:
            start = file.read(HEADER_BYTES)
        if any(mark in start for mark in OWN_MARKS):
            made.add(path)
    stems = {p.stem for p in made}
    beside = {p for p in files if any(p.name == f"{stem}{end}" for stem in stems for end in OWN_COMPANIONS)}
    return made | beside | {p for p in files if p.name.endswith(MASKS)}


def frame_files(paths: list[Path], least: int = 1, outputs: bool = False) -> list[Path]:
    """Files, and of folders the readable files, by name, without masks and (unless ``outputs``) without what
    Vinter itself made; BadInput when there are fewer than ``least``."""
    found: list[Path] = []
    for path in paths:
        if path.is_dir():
            inside = sorted(
                p
                for p in path.iterdir()
                if p.is_file() and p.suffix.lower() in FRAMES and not p.name.startswith(".")
            )
            made = {p for p in inside if p.name.endswith(MASKS)} if outputs else _own_outputs(inside)
            found += [p for p in inside if p not in made]
        elif path.is_file():
            found.append(path)
        else:
            raise BadInput(f"{path}: no such file or folder")
    if len(found) < least:
        raise BadInput("no frames: " + ", ".join(map(str, paths)))
    return found
