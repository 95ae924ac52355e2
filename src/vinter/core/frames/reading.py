"""Frames from any file that is read: RAW, pictures and FITS, named when something is wrong with them."""

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy as np
import numpy.typing as npt
import pillow_heif
import tifffile
from PIL import Image

from vinter.core.errors import BadInput
from vinter.core.frames.content import FRAMES, HEAD_BYTES, RAWS, Reader, kind_of_file
from vinter.core.frames.fits_reading import fits_values
from vinter.core.frames.frame import Colour, Frame, upright
from vinter.core.frames.metadata import Metadata, picture_metadata, tiff_metadata
from vinter.core.frames.profiles import srgb_pixels
from vinter.core.frames.raw import check_size, read_raw
from vinter.core.frames.wholeness import check_whole

Image.MAX_IMAGE_PIXELS = None  # sizes are judged here, before anything is unpacked
pillow_heif.register_heif_opener()


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
