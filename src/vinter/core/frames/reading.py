"""Frames from files: Bayer RAW unpacked by LibRaw, pictures by Pillow and tifffile, all turned upright."""

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np
import numpy.typing as npt
import pillow_heif
import rawpy
import tifffile
from PIL import Image

from vinter.core.camera.illuminant import SRGB_OF_XYZ, temperature
from vinter.core.errors import BadInput
from vinter.core.frames.content import FRAMES, HEAD_BYTES, RAWS, Reader, kind_of_file
from vinter.core.frames.dng import PlainBayer, only_previews, plain_bayer
from vinter.core.frames.fits_reading import fits_values
from vinter.core.frames.lenswarp import UPRIGHT, LensWarp
from vinter.core.frames.merged import MergedLinear, merged_linear
from vinter.core.frames.metadata import Metadata, picture_metadata, tiff_metadata, tiff_tags
from vinter.core.frames.opcodes import CorrectionNote, corrections
from vinter.core.frames.profiles import srgb_pixels
from vinter.core.frames.wholeness import check_whole

LINEAR_KINDS = ("bayer", "linear")  # kinds of frames whose numbers are proportional to light
LARGEST_PIXELS = 205_000_000  # pixels of a mosaic
LARGEST_PICTURE = 110_000_000  # pixels of three colours
Image.MAX_IMAGE_PIXELS = None  # sizes are judged here, before anything is unpacked
pillow_heif.register_heif_opener()
_FLIP_TO_ORIENTATION = {0: 1, 3: 3, 5: 8, 6: 6}
HEADER_BYTES = 2**16
# bytes in a stack's description, as the writer of an export puts them there
OWN_MARKS = (b'"vinter": "stack"', b"Vinter\0")
MASKS = (".mask.png", ".left-out.png")
OWN_COMPANIONS = (*MASKS, ".png")


# patterns with greens on a diagonal, one red, one blue
BAYER = {(0, 1, 1, 2), (2, 1, 1, 0), (1, 0, 2, 1), (1, 2, 0, 1)}


@dataclass(frozen=True)
class Colour:
    """How camera colour becomes a picture: its white (3,), the matrix from balanced camera RGB to linear
    sRGB,
    and the temperature (K) of the light that white was taken in."""

    neutral: tuple[float, float, float] = (1.0, 1.0, 1.0)
    matrix: tuple[tuple[float, ...], ...] = ((1, 0, 0), (0, 1, 0), (0, 0, 1))
    kelvin: float = 5200.0

    @property
    def finished(self) -> bool:
        """Whether the colours are a picture's already, and no camera's."""
        same = np.allclose(self.neutral, 1, atol=1e-3) and np.allclose(self.matrix, np.eye(3), atol=1e-3)
        return bool(same)


@dataclass(frozen=True, kw_only=True)
class Frame:
    """An upright frame: a Bayer mosaic (height, width) with its 2 x 2 pattern, or RGB (height, width, 3).

    Data are uint16; black (2, 2) by mosaic place (or a constant) and white in the same numbers. Pattern
    codes: 0 red, 1 green, 2 blue. ``linear`` is False for gamma-encoded pictures. ``shading`` is the gain
    (height, width) the file itself asks for, ``warp`` its lens warp; ``notes`` say what else of its
    corrections was met.
    """

    path: Path
    kind: str
    data: npt.NDArray[np.uint16]
    pattern: npt.NDArray[np.int64] | None
    black: npt.NDArray[np.float64]
    white: float
    colour: Colour
    meta: Metadata
    linear: bool = True
    shading: npt.NDArray[np.float32] | None = None
    notes: tuple[CorrectionNote, ...] = ()
    warp: LensWarp | None = None

    def __post_init__(self) -> None:
        if self.pattern is not None and tuple(map(int, self.pattern.ravel())) not in BAYER:
            raise BadInput(f"{self.path.name}: its colour filter is not a Bayer pattern")
        if not np.isfinite(self.white) or self.white <= float(np.max(self.black)):
            raise BadInput(f"{self.path.name}: its white level ({self.white:g}) is not above its black")

    @property
    def size(self) -> tuple[int, int]:
        """Width and height."""
        return self.data.shape[1], self.data.shape[0]


def upright(data: npt.NDArray[np.uint16], orientation: int) -> npt.NDArray[np.uint16]:
    """Data turned (and mirrored) as its EXIF orientation asks."""
    turns, mirrored = UPRIGHT.get(orientation, (0, False))
    if mirrored:
        data = data[:, ::-1]
    return np.ascontiguousarray(np.rot90(data, turns))


def _turned_pattern(pattern: npt.NDArray[np.float64], orientation: int) -> npt.NDArray[np.float64]:
    turns, mirrored = UPRIGHT.get(orientation, (0, False))
    return np.ascontiguousarray(np.rot90(pattern[:, ::-1] if mirrored else pattern, turns))


def colour_from(neutral: npt.NDArray[np.float64], xyz_to_camera: npt.NDArray[np.float64]) -> Colour:
    """Colour of a camera white and an XYZ-to-camera matrix; identity when the matrix is empty or singular."""
    white = tuple(float(v) for v in np.clip(neutral / max(neutral[1], 1e-6), 0.05, 20))
    if not np.any(xyz_to_camera) or abs(np.linalg.det(xyz_to_camera)) < 1e-6:
        return Colour((white[0], white[1], white[2]))
    rgb_to_camera = xyz_to_camera @ np.linalg.inv(SRGB_OF_XYZ)
    rgb_to_camera /= rgb_to_camera.sum(axis=1, keepdims=True)
    matrix = np.linalg.inv(rgb_to_camera)
    xyz = np.linalg.solve(xyz_to_camera, np.array(white))
    fair = bool((xyz > 0).all())
    kelvin = temperature(float(xyz[0] / xyz.sum()), float(xyz[1] / xyz.sum())) if fair else Colour.kelvin
    return Colour(
        (white[0], white[1], white[2]), tuple(tuple(float(v) for v in row) for row in matrix), kelvin
    )


def _raw_colour(raw: rawpy.RawPy, path: Path) -> Colour:
    multipliers = np.array(raw.camera_whitebalance[:3], float)
    if not np.all(multipliers > 0):
        multipliers = np.array(raw.daylight_whitebalance[:3], float)
    neutral = 1 / multipliers if np.all(multipliers > 0) else np.ones(3)
    matrix = np.array(raw.rgb_xyz_matrix[:3], float)
    return colour_from(neutral, matrix if np.any(matrix) else _tagged_matrix(path))


def _tagged_matrix(path: Path) -> npt.NDArray[np.float64]:
    """ColorMatrix1 of a DNG (LibRaw fills its own only for cameras it knows); zeros when there is none."""
    try:
        tags, _ = tiff_tags(path)
        values = np.array(tags["ColorMatrix1"], float).reshape(9, 2)
        return np.asarray((values[:, 0] / values[:, 1]).reshape(3, 3))
    except (OSError, KeyError, ValueError, TypeError, tifffile.TiffFileError):
        return np.zeros((3, 3))


def _from_plain(path: Path, plain: PlainBayer) -> Frame:
    colour = _tagged_colour(plain.neutral, plain.matrix)
    turn = plain.orientation if plain.orientation in UPRIGHT else 1
    return Frame(
        path=path,
        kind="bayer",
        data=upright(plain.data, turn),
        pattern=_turned_pattern(plain.pattern.astype(float), turn).astype(np.int64),
        black=_turned_pattern(plain.black, turn),
        white=plain.white,
        colour=colour,
        meta=tiff_metadata(path),
    )


def read_raw(path: Path) -> Frame:
    """A RAW file: a plain Bayer DNG and what merged modes write by their tags, any other as LibRaw unpacks
    it; linear DNG becomes RGB."""
    if path.suffix.lower() != ".dng":
        return read_with_libraw(path)
    if (plain := plain_bayer(path)) is not None:
        return _with_corrections(_from_plain(path, plain), plain.orientation)
    if (merged := merged_linear(path, check_size)) is not None:
        return _with_corrections(_from_merged(path, merged), merged.orientation)
    return _with_corrections(read_with_libraw(path), None)


def _tagged_colour(neutral: npt.NDArray[np.float64] | None, matrix: npt.NDArray[np.float64] | None) -> Colour:
    fair = neutral is not None and neutral.size == 3 and (neutral > 0).all()
    return colour_from(
        neutral if fair and neutral is not None else np.ones(3),
        np.zeros((3, 3)) if matrix is None else matrix,
    )


def _from_merged(path: Path, merged: MergedLinear) -> Frame:
    turn = merged.orientation if merged.orientation in UPRIGHT else 1
    return Frame(
        path=path,
        kind="linear",
        data=upright(merged.data, turn),
        pattern=None,
        black=np.full((2, 2), merged.black),
        white=merged.white,
        colour=_tagged_colour(merged.neutral, merged.matrix),
        meta=tiff_metadata(path),
    )


def _with_corrections(frame: Frame, orientation: int | None) -> Frame:
    """A frame with the gain map (of a mosaic) and the lens warp its file carries, turned upright like its
    data."""
    turn = orientation if orientation in UPRIGHT else frame.meta.orientation
    turned = turn in (5, 6, 7, 8)
    height, width = frame.data.shape[1::-1] if turned else frame.data.shape[:2]
    found = corrections(frame.path, height, width)
    if found.shading is None and not found.notes:
        return frame
    warp = replace(found.warp, orientation=turn) if found.warp else None
    if frame.pattern is None:
        return replace(frame, warp=warp, notes=tuple(n for n in found.notes if not n.of_shading))
    quarter, mirrored = UPRIGHT.get(turn, (0, False))
    shading = found.shading
    if shading is not None:
        shading = np.ascontiguousarray(np.rot90(shading[:, ::-1] if mirrored else shading, quarter))
    return replace(frame, shading=shading, notes=found.notes, warp=warp)


def read_with_libraw(path: Path) -> Frame:
    """A RAW file as LibRaw unpacks it. Bayer files stay a mosaic."""
    try:
        with rawpy.imread(str(path)) as raw:
            meta = tiff_metadata(path)
            orientation = _FLIP_TO_ORIENTATION.get(raw.sizes.flip, 1)
            colour = _raw_colour(raw, path)
            visible = raw.raw_image_visible
            flat = raw.raw_pattern is not None and visible.ndim == 2
            check_size(path, visible.shape[1], visible.shape[0], LARGEST_PIXELS if flat else LARGEST_PICTURE)
            white = float(raw.white_level or np.iinfo(visible.dtype).max)
            if raw.raw_pattern is None or visible.ndim == 3:
                data = np.array(visible[..., :3], np.uint16)
                black = np.full((2, 2), float(raw.black_level_per_channel[0]))
                return Frame(
                    path=path,
                    kind="linear",
                    data=upright(data, orientation),
                    pattern=None,
                    black=black,
                    white=white,
                    colour=colour,
                    meta=meta,
                )
            if raw.raw_pattern.shape != (2, 2):
                raise BadInput(f"{path.name}: its colour filter is not a 2 x 2 Bayer pattern")
            codes = np.where(raw.raw_pattern == 3, 1, raw.raw_pattern)
            black = np.array(raw.black_level_per_channel, float)[raw.raw_pattern]
            even = np.array(visible[: visible.shape[0] // 2 * 2, : visible.shape[1] // 2 * 2])
    except rawpy.LibRawError as error:
        if only_previews(path):
            raise BadInput(
                f"{path.name}: its RAW pixels were taken out, only a preview is left; copy the file from "
                f"the phone "
                "again, as the original"
            ) from error
        raise BadInput(
            f"{path.name}: not a RAW file that can be read ({_told(error, path.stat().st_size)})"
        ) from error
    return Frame(
        path=path,
        kind="bayer",
        data=upright(even, orientation),
        pattern=_turned_pattern(codes, orientation).astype(np.int64),
        black=_turned_pattern(black, orientation),
        white=white,
        colour=colour,
        meta=meta,
    )


def check_size(path: Path, width: int, height: int, most: int = LARGEST_PICTURE) -> None:
    """BadInput for more pixels than can be worked with in the memory a frame may take."""
    if width * height > most:
        raise BadInput(
            f"{path.name}: {width} x {height} pixels is too large; frames of at most {most // 10**6} "
            "megapixels are read"
        )


def _told(error: Exception, size: int) -> str:
    text = error.args[0] if error.args else error
    words = text.decode(errors="replace") if isinstance(text, bytes) else str(text)
    return {"Input/output error": f"the file is cut: its data lie beyond its end at {size / 1e6:.1f} MB"}.get(
        words, words
    )


def _as_uint16(data: npt.NDArray[np.generic], path: Path) -> npt.NDArray[np.uint16]:
    if data.ndim == 2:
        data = np.repeat(data[..., None], 3, axis=2)
    if data.ndim != 3 or data.shape[2] < 3:
        raise BadInput(f"{path.name}: a picture of shape {data.shape} is neither grey nor colour")
    if data.dtype == np.uint8:
        return np.asarray(np.multiply(data[..., :3], 257, dtype=np.uint16), np.uint16)
    if data.dtype == np.uint16:
        return np.asarray(data[..., :3], np.uint16)
    if np.issubdtype(data.dtype, np.floating):
        return np.asarray(
            np.clip(np.nan_to_num(data[..., :3].astype(np.float64)), 0, 1) * 65535 + 0.5, np.uint16
        )
    raise BadInput(f"{path.name}: pixels of type {data.dtype} are not supported")


def _tiff_values(path: Path) -> npt.NDArray[np.generic]:
    """Pixels of a TIFF's first picture; its size is judged before anything is unpacked."""
    with tifffile.TiffFile(path) as tif:
        page = tif.pages[0]
        check_size(path, page.imagewidth, page.imagelength)
        values = np.asarray(page.asarray())
        return np.moveaxis(values, 0, -1) if values.ndim == 3 and page.planarconfig == 2 else values


def read_picture(path: Path) -> Frame:
    """A JPEG, PNG, TIFF or HEIF picture as upright RGB in 16 bits; float TIFF counts as linear 0 to 1."""
    try:
        if path.suffix.lower() in (".tif", ".tiff"):
            values = _tiff_values(path)
            meta, linear = tiff_metadata(path), bool(np.issubdtype(values.dtype, np.floating))
        else:
            with Image.open(path) as image:
                check_size(path, *image.size)
                meta, linear = picture_metadata(image), False
                values = srgb_pixels(image)
    except BadInput:
        raise
    except (OSError, ValueError, SyntaxError, Image.DecompressionBombError, tifffile.TiffFileError) as error:
        words = str(error).replace(str(path), path.name)
        raise BadInput(f"{path.name}: not a picture that can be read ({words})") from error
    data = upright(_as_uint16(values, path), meta.orientation)
    return _developed(path, "picture", data, meta, linear)


def _developed(
    path: Path, kind: str, data: npt.NDArray[np.uint16], meta: Metadata, linear: bool = False
) -> Frame:
    """A frame whose pixels are colours already."""
    return Frame(
        path=path,
        kind=kind,
        data=data,
        pattern=None,
        black=np.zeros((2, 2)),
        white=65535.0,
        colour=Colour(),
        meta=meta,
        linear=linear,
    )


def read_fits(path: Path) -> Frame:
    """A FITS picture as upright linear RGB; a grey one in three like colours."""
    data, meta = fits_values(path, check_size)
    return _developed(path, "linear", data, meta)


@contextmanager
def named(name: str) -> Iterator[None]:
    """Whatever goes wrong with a file, by its content or inside a library, becomes one sentence with its
    name.

    Running out of memory and being stopped are not the file's fault and pass on.
    """
    try:
        yield
    except (BadInput, MemoryError):
        raise
    except Exception as error:
        words = " ".join(str(error).split())[:200]
        raise BadInput(f"{name}: cannot be read ({type(error).__name__}: {words})") from error


def read_frame(path: Path) -> Frame:
    """Any supported file; BadInput names the file and what is wrong with it."""
    if not path.is_file():
        raise BadInput(f"{path}: no such file")
    if path.stat().st_size == 0:
        raise BadInput(f"{path.name}: the file is empty")
    suffix = path.suffix.lower()
    if suffix not in FRAMES:
        raise BadInput(f"{path.name}: files of type {suffix or 'none'} are not read")
    with path.open("rb") as file:
        head = file.read(HEAD_BYTES)
    kind = kind_of_file(path.name, head)
    with named(path.name):
        check_whole(path)
        if kind is not None and kind.reader == Reader.FITS:
            frame = read_fits(path)
        else:
            frame = read_raw(path) if suffix in RAWS else read_picture(path)
    if min(frame.size) < 64:
        raise BadInput(f"{path.name}: {frame.size[0]} x {frame.size[1]} pixels is too small for a frame")
    return frame


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
