"""Whether the numeric kernels are compiled as the code is now."""

import hashlib
import sys
from pathlib import Path

import numba
import numpy as np


def stamp(part: str) -> Path:
    """A file that is there when a part ("stacking", "finishing", "simulating") is compiled as the code is
    now; for this copy of the program, as compiled kernels are kept by the place of their source."""
    core = Path(__file__).parent
    state = hashlib.sha256(f"{numba.__version__} {np.__version__} {sys.version} {core}".encode())
    for path in sorted(core.rglob("*.py")):
        if b"numba.njit" in (text := path.read_bytes()):
            state.update(text)
    kept = Path(numba.config.CACHE_DIR or core / "__pycache__")
    return kept / f"compiled-{part}-{state.hexdigest()[:16]}"


def is_compiled(part: str) -> bool:
    """Whether a part is compiled: else its first call takes seconds for every kernel."""
    return stamp(part).exists()
