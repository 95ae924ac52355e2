"""First pass over a take: every frame read, cleaned, measured and spilled to disk, in worker processes."""

from dataclasses import dataclass, field
from pathlib import Path

import cv2
import numpy as np
import numpy.typing as npt
import sep

from vinter.core.constants import EQUIVALENT_UNKNOWN_MM, FULL_FRAME_DIAGONAL_MM
from vinter.core.errors import BadInput
from vinter.core.formats.whole import no_room, whole
from vinter.core.frames.decoding import decoded, start_decoding
from vinter.core.frames.frame import Colour
from vinter.core.frames.lenswarp import LensWarp
from vinter.core.frames.measure import Measure
from vinter.core.frames.measuring import clean, measure
from vinter.core.frames.stars import Stars, background, find_stars
from vinter.core.parallel import follow_asker

U16 = npt.NDArray[np.uint16]
F32 = npt.NDArray[np.float32]
LIGHT_PX, RING_PX = 4.0, (6.0, 9.0)  # half-size px
GRID = (12, 16)  # cells of the background


@dataclass(frozen=True, kw_only=True)
class Ingested:
    """A frame after the first pass: its spill file (mosaic or RGB), its stars and measures; or the error."""

    path: Path
    error: str = ""
    spill: Path = Path()
    pattern: npt.NDArray[np.int64] | None = None
    colour: Colour = field(default_factory=Colour)
    focal_px: float = 0.0
    stars: Stars | None = None
    measure: Measure | None = None
    grid: F32 | None = None
    light: F32 | None = None
    warp: LensWarp | None = None

    @property
    def size(self) -> tuple[int, int]:
        """Width and height."""
        return (self.measure.width, self.measure.height) if self.measure else (0, 0)

    @property
    def time(self) -> float | None:
        """Unix start of the exposure."""
        return self.measure.time if self.measure else None


@dataclass(frozen=True)
class Masters:
    """Calibration frames on disk, each .npy or None: dark in DN above black, flat relative to 1."""

    dark: Path | None = None
    flat: Path | None = None


def colour_grid(data: U16, pattern: npt.NDArray[np.int64] | None) -> F32:
    """Median of each colour (GRID rows, columns, 3) over cells of a clean frame: its background, stars left
    aside."""
    rows, columns = GRID
    out = np.empty((rows, columns, 3), np.float32)
    planes: list[list[U16]] = [[], [], []]
    if pattern is None:
        planes = [[data[::4, ::4, c]] for c in range(3)]
    else:
        for y in (0, 1):
            for x in (0, 1):
                planes[1 if pattern[y, x] == 3 else int(pattern[y, x])].append(data[y::8, x::8])
    for c in range(3):
        values = np.concatenate([_in_cells(p) for p in planes[c]], axis=-1)
        half = values.shape[-1] // 2
        out[..., c] = np.partition(values, half, axis=-1)[..., half]
    return out


def _in_cells(plane: U16) -> U16:
    """Values of a plane by the cells of the grid (rows, columns, values); what is over at its end is left
    out."""
    (rows, columns), (height, width) = GRID, plane.shape
    high, wide = height // rows, width // columns
    cells = plane[: rows * high, : columns * wide].reshape(rows, high, columns, wide)
    return cells.swapaxes(1, 2).reshape(rows, columns, -1)


def star_light(signal: F32, stars: Stars) -> F32:
    """Light of each star within a wide circle, less what lies in a ring around it; unlike the light above a
    threshold it does not depend on the frame's noise."""
    if not len(stars):
        return np.empty(0, np.float32)
    found, _, _ = sep.sum_circle(
        np.ascontiguousarray(signal),
        (stars.x - 0.5) / 2,
        (stars.y - 0.5) / 2,
        LIGHT_PX,
        bkgann=RING_PX,
        subpix=5,
    )
    return np.asarray(found, np.float32)


def save_whole(path: Path, data: npt.NDArray[np.generic]) -> None:
    """Write an array so that it is there whole or not at all."""
    with whole(path, lasting=False) as draft, draft.open("wb") as file:
        np.save(file, data)


def begin_worker() -> None:
    """What a process of a stack's own pool does first."""
    start_decoding()
    follow_asker()


def quiet_worker() -> None:
    """One thread a process: the pool is what runs in parallel."""
    cv2.setNumThreads(1)


def anonymous_mb() -> float:
    """Private memory of this process in MB (file-backed pages of spill files left out)."""
    for line in Path("/proc/self/status").read_text().splitlines():
        if line.startswith("RssAnon"):
            return float(line.split()[1]) / 1024
    return 0.0


def _loaded(path: Path | None) -> F32 | None:
    return np.load(path, mmap_mode="r") if path else None


def ingest(path: Path, spill: Path, masters: Masters) -> Ingested:
    """Read, clean and measure one frame and write its clean data to ``spill``; errors come back as text."""
    quiet_worker()
    try:
        frame = decoded(path)
        dark, flat = _loaded(masters.dark), _loaded(masters.flat)
        for label, master in (("dark", dark), ("flat", flat)):
            if master is not None and master.shape != frame.data.shape[:2]:
                raise BadInput(f"{path.name}: the {label} frames have another size")
        data, plane = clean(frame, dark, flat)
        floor = background(plane)
        found = find_stars(plane, floor)
        f35 = frame.meta.f35 or EQUIVALENT_UNKNOWN_MM
        focal = f35 / FULL_FRAME_DIAGONAL_MM * float(np.hypot(*frame.size))
        save_whole(spill, data)
        return Ingested(
            path=path,
            error="",
            spill=spill,
            pattern=frame.pattern,
            colour=frame.colour,
            focal_px=focal,
            stars=found.stars,
            measure=measure(frame, (data, plane), (floor, found)),
            grid=colour_grid(data, frame.pattern),
            light=star_light(floor.signal, found.stars),
            warp=frame.warp,
        )
    except BadInput as error:
        return Ingested(path=path, error=str(error))
    except (OSError, MemoryError, ValueError) as error:
        if no_room(error):
            raise
        return Ingested(path=path, error=f"{path.name}: {error}")


def master_frame(paths: list[Path], out: Path, relative: bool, below: Path | None = None) -> Path:
    """Median of calibration frames as .npy: darks in DN above black, flats (relative) divided by their mean.

    ``below`` is a master to subtract first (dark or bias for flats). Rows are worked in bands.
    """
    frames = [decoded(p) for p in paths]
    shape = frames[0].data.shape
    for f in frames:
        if f.pattern is None or f.data.shape != shape:
            raise BadInput(f"{f.path.name}: calibration frames must be Bayer RAW of one size")
    master = np.empty(shape, np.float32)
    for y in range(0, shape[0], 256):
        band = np.stack([f.data[y : y + 256].astype(np.float32) for f in frames])
        master[y : y + 256] = np.median(band, axis=0)
    black = np.tile(frames[0].black, (shape[0] // 2, shape[1] // 2)).astype(np.float32)
    master -= black
    if below is not None:
        master -= np.load(below)
    if relative:
        for y in (0, 1):
            for x in (0, 1):
                plane = cv2.GaussianBlur(np.ascontiguousarray(master[y::2, x::2]), (0, 0), 2.0)
                master[y::2, x::2] = np.maximum(plane / max(float(plane.mean()), 1e-6), 0.05)
    save_whole(out, master)
    return out
