"""Finished pictures to files, with their metadata: JPEG, HEIF, AVIF, 16-bit TIFF, 16-bit PNG."""

import io
import struct
import zlib
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from xml.sax.saxutils import escape

import cv2
import numpy as np
import numpy.typing as npt
import pillow_heif
import tifffile
from PIL import Image

from vinter.core.formats.exif import SOFTWARE, Taken, blank_pointers, exif_bytes, put_into_tiff
from vinter.core.formats.icc import SRGB, profile
from vinter.core.formats.whole import whole

U8 = npt.NDArray[np.uint8]
U16 = npt.NDArray[np.uint16]
JPEG_QUALITY, HEIF_QUALITY, AVIF_QUALITY = 97, 80, 95
PNG_HEAD = 33  # bytes of its signature and first chunk
XMP_TAG, SUFFICIENT_DPI = 700, 72
MOST_RECIPE = 40_000  # characters of a recipe that XMP holds: a segment of a JPEG has 65,533 bytes


@dataclass(frozen=True)
class PictureInfo:
    """What a picture file says of itself: title and caption, how it was taken (where, only with ``place``),
    its colour space and print density (dpi), and the recipe it was made by (JSON)."""

    title: str = ""
    caption: str = ""
    taken: Taken = field(default_factory=Taken)
    place: bool = False
    space: str = SRGB
    dpi: float | None = None
    recipe: str = ""

    @property
    def exif(self) -> bytes:
        """Its EXIF data."""
        return exif_bytes(self.taken, self.title, self.space == SRGB, self.place)


XMP = (
    '<?xpacket begin="\ufeff" id="W5M0MpCehiHzreSzNTczkc9d"?>'
    '<x:xmpmeta xmlns:x="adobe:ns:meta/"><rdf:RDF xmlns:rdf="http://www.w3.org/1999/02/22-rdf-syntax-ns#">'
    '<rdf:Description rdf:about="" xmlns:dc="http://purl.org/dc/elements/1.1/" '
    'xmlns:vinter="urn:x-vinter:finish">'
    '<dc:title><rdf:Alt><rdf:li xml:lang="x-default">{title}</rdf:li></rdf:Alt></dc:title>'
    '<dc:description><rdf:Alt><rdf:li xml:lang="x-default">{caption}</rdf:li></rdf:Alt></dc:description>'
    "<vinter:recipe>{recipe}</vinter:recipe>"
    '</rdf:Description></rdf:RDF></x:xmpmeta><?xpacket end="w"?>'
)


def _xmp(info: PictureInfo) -> bytes:
    """Title, caption and recipe as an XMP packet; nothing where there is nothing to say."""
    if not info.title and not info.recipe:
        return b""
    recipe = info.recipe if len(info.recipe) <= MOST_RECIPE else ""
    words = {"title": info.title, "caption": info.caption or info.title, "recipe": recipe}
    return XMP.format(**{name: escape(text) for name, text in words.items()}).encode()


def jpeg_of(rgb: U8, info: PictureInfo, quality: int = JPEG_QUALITY) -> bytes:
    """An 8-bit JPEG in memory with EXIF, XMP and colour profile."""
    held = io.BytesIO()
    Image.fromarray(rgb).save(
        held,
        "JPEG",
        quality=quality,
        exif=b"Exif\0\0" + info.exif,
        icc_profile=profile(info.space),
        subsampling=0,
        dpi=_dpi(info),
        xmp=_xmp(info),
    )
    return held.getvalue()


def avif_of(rgb: U8, info: PictureInfo, quality: int = AVIF_QUALITY) -> bytes:
    """An 8-bit AVIF in memory with EXIF, XMP and colour profile."""
    held = io.BytesIO()
    Image.fromarray(rgb).save(
        held,
        "AVIF",
        quality=quality,
        exif=info.exif,
        icc_profile=profile(info.space),
        subsampling="4:4:4",
        xmp=_xmp(info),
    )
    return held.getvalue()


def heif_of(rgb: U16, info: PictureInfo, quality: int = HEIF_QUALITY) -> bytes:
    """A HEIF of 10 bits in memory with EXIF, XMP and colour profile."""
    held, (height, width) = io.BytesIO(), rgb.shape[:2]
    made = pillow_heif.from_bytes("RGB;16", (width, height), np.ascontiguousarray(rgb).tobytes())
    made.info.update(exif=info.exif, xmp=_xmp(info), icc_profile=profile(info.space))
    made.save(held, quality=quality, chroma=444, enc_params={"preset": "ultrafast"})
    return held.getvalue()


def write_bytes(path: Path, data: bytes) -> None:
    """Data into a file that is there whole or not at all."""
    with whole(path) as draft:
        draft.write_bytes(data)


def write_jpeg(path: Path, rgb: U8, info: PictureInfo | None = None, quality: int = JPEG_QUALITY) -> None:
    """An 8-bit JPEG into a file."""
    write_bytes(path, jpeg_of(rgb, info or PictureInfo(), quality))


def write_tiff16(path: Path, rgb: U16, info: PictureInfo | None = None) -> None:
    """16-bit TIFF with colour profile, EXIF, description and XMP."""
    info = info or PictureInfo()
    when = datetime.fromtimestamp(info.taken.time, UTC) if info.taken.time is not None else None
    _tiff(path, rgb, info, iccprofile=profile(info.space), datetime=when)


def write_linear_tiff(path: Path, rgb: npt.NDArray[np.float32], info: PictureInfo | None = None) -> None:
    """32-bit float TIFF of linear light, 1 at the white of a screen, for further work; the profile says in
    which colours."""
    info = info or PictureInfo()
    _tiff(path, rgb, info, iccprofile=profile(info.space, linear=True))


def _tiff(path: Path, rgb: U16 | npt.NDArray[np.float32], info: PictureInfo, **more: object) -> None:
    with whole(path) as draft:
        tifffile.imwrite(
            draft,
            rgb,
            photometric="rgb",
            compression="zlib",
            predictor=True,
            byteorder="<",
            **more,
            **_said(info),
        )
        put_into_tiff(draft, info.taken, info.space == SRGB, info.place)


def _dpi(info: PictureInfo) -> tuple[float, float]:
    return (info.dpi or SUFFICIENT_DPI,) * 2


def _said(info: PictureInfo) -> dict[str, object]:
    """What a TIFF says of its picture."""
    xmp, named = _xmp(info), ((271, info.taken.make), (272, info.taken.model))
    return {
        "software": SOFTWARE,
        "metadata": None,
        "description": info.title.encode("ascii", "replace").decode(),
        "resolution": _dpi(info),
        "resolutionunit": "INCH",
        "extratags": [(tag, 2, 0, text, True) for tag, text in named if text]
        + ([(XMP_TAG, 1, len(xmp), xmp, True)] if xmp else [])
        + blank_pointers(info.taken, info.place),
    }


def write_png16(path: Path, rgb: U16, info: PictureInfo | None = None) -> None:
    """16-bit PNG with colour profile, density, EXIF and XMP."""
    info = info or PictureInfo()
    _, data = cv2.imencode(".png", np.ascontiguousarray(rgb[..., ::-1]))
    parts = [(b"iCCP", b"profile\0\0" + zlib.compress(profile(info.space)))]
    per_metre = round(_dpi(info)[0] / 0.0254)
    parts.append((b"pHYs", struct.pack(">IIB", per_metre, per_metre, 1)))
    parts.append((b"eXIf", info.exif))
    if xmp := _xmp(info):
        parts.append((b"iTXt", b"XML:com.adobe.xmp\0\0\0\0\0" + xmp))
    chunks = b"".join(
        struct.pack(">I", len(body)) + name + body + struct.pack(">I", zlib.crc32(name + body))
        for name, body in parts
    )
    with whole(path) as draft:
        draft.write_bytes(data.tobytes()[:PNG_HEAD] + chunks + data.tobytes()[PNG_HEAD:])


def jpeg_bytes(rgb: U8, quality: int = 88) -> bytes:
    """A JPEG in memory, for the screen."""
    _, data = cv2.imencode(".jpg", cv2.cvtColor(rgb, cv2.COLOR_RGB2BGR), [cv2.IMWRITE_JPEG_QUALITY, quality])
    return data.tobytes()
