"""What the system knows of files that others may take away at any moment."""

import os
import stat
from pathlib import Path


def state_of(path: Path) -> os.stat_result | None:
    """State of a file or folder, of a link the link's own; None when it is not there, or no longer."""
    try:
        return path.lstat()
    except FileNotFoundError:
        return None


def size_of(path: Path) -> int:
    """Bytes of a file or of all files in a folder; what vanishes meanwhile counts nothing."""
    inside = (Path(folder, name) for folder, _, names in os.walk(path) for name in names)
    states = map(state_of, (path, *inside))
    return sum(s.st_size for s in states if s and stat.S_ISREG(s.st_mode))
