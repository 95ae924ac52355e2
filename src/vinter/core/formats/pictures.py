"""Finished pictures to files, with their metadata: JPEG, 16-bit TIFF, 16-bit PNG."""

import struct
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import lru_cache
from pathlib import Path
from xml.sax.saxutils import escape

import cv2
import numpy as np
import numpy.typing as npt
import tifffile
from PIL import Image, ImageCms

from vinter.core.formats.whole import whole, write_image

SOFTWARE = "Vinter"
JPEG_QUALITY = 93
PROFILE_DATE = slice(24, 36)  # of its header: ICC.1:2022, 7.2.8


@dataclass(frozen=True)
class PictureInfo:
    """What a picture file says of itself; time in Unix seconds."""

    title: str = ""
    make: str = ""
    model: str = ""
    time: float | None = None
    iso: int | None = None
    exposure_s: float | None = None
    caption: str = ""


XMP = (
    '<?xpacket begin="\ufeff" id="W5M0MpCehiHzreSzNTczkc9d"?>'
    '<x:xmpmeta xmlns:x="adobe:ns:meta/"><rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#">'
    '<rdf:Description rdf:about="" xmlns:dc="http://purl.org/dc/elements/1.1/">'
    '<dc:title><rdf:Alt><rdf:li xml:lang="x-default">{title}</rdf:li></rdf:Alt></dc:title>'
    '<dc:description><rdf:Alt><rdf:li xml:lang="x-default">{caption}</rdf:li></rdf:Alt></dc:description>'
    '</rdf:Description></rdf:RDF></x:xmpmeta><?xpacket end="w"?>'
)


def _xmp(info: PictureInfo) -> bytes:
    """Title and caption as an XMP packet."""
    return XMP.format(title=escape(info.title), caption=escape(info.caption or info.title)).encode()


def _exif(info: PictureInfo) -> Image.Exif:
    exif = Image.Exif()
    pairs = {270: info.title, 271: info.make, 272: info.model, 305: SOFTWARE}
    for tag, value in pairs.items():
        if value:
            exif[tag] = value
    block = exif.get_ifd(34665)
    if info.time is not None:
        block[36867] = datetime.fromtimestamp(info.time, UTC).strftime("%Y:%m:%d %H:%M:%S")
        block[36881] = "+00:00"
    if info.iso:
        block[34855] = info.iso
    if info.exposure_s:
        block[33434] = info.exposure_s
    return exif


@lru_cache(maxsize=1)
def _srgb() -> bytes:
    """The sRGB profile; its date is a fixed one, so that the same picture is the same file."""
    profile = bytearray(ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes())
    profile[PROFILE_DATE] = struct.pack(">6H", 2000, 1, 1, 0, 0, 0)
    return bytes(profile)


def write_jpeg(
    path: Path, rgb: npt.NDArray[np.uint8], info: PictureInfo | None = None, quality: int = JPEG_QUALITY
) -> None:
    """8-bit sRGB JPEG with EXIF, XMP title and caption, and colour profile."""
    info = info or PictureInfo()
    with whole(path) as draft:
        Image.fromarray(rgb).save(
            draft,
            "JPEG",
            quality=quality,
            exif=_exif(info),
            icc_profile=_srgb(),
            subsampling=0,
            xmp=_xmp(info) if info.title else b"",
        )


def write_tiff16(path: Path, rgb: npt.NDArray[np.uint16], info: PictureInfo | None = None) -> None:
    """16-bit sRGB TIFF with colour profile and description."""
    info = info or PictureInfo()
    when = datetime.fromtimestamp(info.time, UTC) if info.time is not None else None
    with whole(path) as draft:
        tifffile.imwrite(
            draft,
            rgb,
            photometric="rgb",
            iccprofile=_srgb(),
            software=SOFTWARE,
            datetime=when,
            metadata=None,
            description=info.title.encode("ascii", "replace").decode(),
            compression="zlib",
            predictor=True,
        )


def write_png16(path: Path, rgb: npt.NDArray[np.uint16]) -> None:
    """16-bit PNG."""
    write_image(path, rgb)


def jpeg_bytes(rgb: npt.NDArray[np.uint8], quality: int = 88) -> bytes:
    """A JPEG in memory, for the screen."""
    _, data = cv2.imencode(".jpg", rgb[..., ::-1], [cv2.IMWRITE_JPEG_QUALITY, quality])
    return data.tobytes()
