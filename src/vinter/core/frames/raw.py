"""RAW files: plain Bayer DNG and merged DNG by their tags, any other as LibRaw unpacks it."""

from dataclasses import replace
from pathlib import Path

import numpy as np
import numpy.typing as npt
import rawpy
import tifffile

from vinter.core.camera.illuminant import SRGB_OF_XYZ, temperature
from vinter.core.errors import BadInput
from vinter.core.frames.dng import PlainBayer, only_previews, plain_bayer
from vinter.core.frames.frame import Colour, Frame, upright
from vinter.core.frames.lenswarp import UPRIGHT
from vinter.core.frames.merged import MergedLinear, merged_linear
from vinter.core.frames.metadata import tiff_metadata, tiff_tags
from vinter.core.frames.opcodes import corrections

LARGEST_PIXELS = 205_000_000  # pixels of a mosaic
LARGEST_PICTURE = 110_000_000  # pixels of three colours
_FLIP_TO_ORIENTATION = {0: 1, 3: 3, 5: 8, 6: 6}


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
