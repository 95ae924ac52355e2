"""Finished pictures to files, with their metadata: JPEG, 16-bit TIFF, 16-bit PNG."""

import struct
import zlib
from dataclasses import dataclass
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from xml.sax.saxutils import escape

import cv2
import numpy as np
import numpy.typing as npt
import tifffile
from PIL import Image

from vinter.core.formats.icc import SRGB, profile
from vinter.core.formats.whole import whole

SOFTWARE = "Vinter"
JPEG_QUALITY = 93
PNG_HEAD = 33  # bytes of its signature and first chunk
XMP_TAG, SUFFICIENT_DPI = 700, 72


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
    space: str = SRGB  # of its numbers
    dpi: float | None = None  # at which it is to be printed


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


def write_jpeg(
    path: Path, rgb: npt.NDArray[np.uint8], info: PictureInfo | None = None, quality: int = JPEG_QUALITY
) -> None:
    """8-bit JPEG with EXIF, XMP title and caption, and colour profile."""
    info = info or PictureInfo()
    with whole(path) as draft:
        Image.fromarray(rgb).save(
            draft,
            "JPEG",
            quality=quality,
            exif=_exif(info),
            icc_profile=profile(info.space),
            subsampling=0,
            dpi=_dpi(info),
            xmp=_xmp(info) if info.title else b"",
        )


def write_tiff16(path: Path, rgb: npt.NDArray[np.uint16], info: PictureInfo | None = None) -> None:
    """16-bit TIFF with colour profile, description and XMP."""
    info = info or PictureInfo()
    when = datetime.fromtimestamp(info.time, UTC) if info.time is not None else None
    with whole(path) as draft:
        tifffile.imwrite(
            draft,
            rgb,
            photometric="rgb",
            iccprofile=profile(info.space),
            datetime=when,
            compression="zlib",
            predictor=True,
            **_said(info),
        )


def write_linear_tiff(path: Path, rgb: npt.NDArray[np.float32], info: PictureInfo | None = None) -> None:
    """32-bit float TIFF of linear light in sRGB's colours, 1 at the white of a screen, for further work."""
    info = info or PictureInfo()
    with whole(path) as draft:
        tifffile.imwrite(draft, rgb, photometric="rgb", compression="zlib", predictor=True, **_said(info))


def _dpi(info: PictureInfo) -> tuple[float, float]:
    return (info.dpi or SUFFICIENT_DPI,) * 2


def _said(info: PictureInfo) -> dict[str, Any]:
    """What a TIFF says of its picture."""
    xmp = _xmp(info) if info.title else b""
    return {
        "software": SOFTWARE,
        "metadata": None,
        "description": info.title.encode("ascii", "replace").decode(),
        "resolution": _dpi(info),
        "resolutionunit": "INCH",
        "extratags": [(tag, 2, 0, text, True) for tag, text in ((271, info.make), (272, info.model)) if text]
        + ([(XMP_TAG, 1, len(xmp), xmp, True)] if xmp else []),
    }


def write_png16(path: Path, rgb: npt.NDArray[np.uint16], info: PictureInfo | None = None) -> None:
    """16-bit PNG with colour profile, density, title and caption."""
    info = info or PictureInfo()
    _, data = cv2.imencode(".png", np.ascontiguousarray(rgb[..., ::-1]))
    parts = [(b"iCCP", b"profile\0\0" + zlib.compress(profile(info.space)))]
    per_metre = round(_dpi(info)[0] / 0.0254)
    parts.append((b"pHYs", struct.pack(">IIB", per_metre, per_metre, 1)))
    if info.title:
        parts.append((b"iTXt", b"XML:com.adobe.xmp\0\0\0\0\0" + _xmp(info)))
    chunks = b"".join(
        struct.pack(">I", len(body)) + name + body + struct.pack(">I", zlib.crc32(name + body))
        for name, body in parts
    )
    with whole(path) as draft:
        draft.write_bytes(data.tobytes()[:PNG_HEAD] + chunks + data.tobytes()[PNG_HEAD:])


def jpeg_bytes(rgb: npt.NDArray[np.uint8], quality: int = 88) -> bytes:
    """A JPEG in memory, for the screen."""
    _, data = cv2.imencode(".jpg", cv2.cvtColor(rgb, cv2.COLOR_RGB2BGR), [cv2.IMWRITE_JPEG_QUALITY, quality])
    return data.tobytes()
