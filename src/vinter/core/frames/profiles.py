"""Pictures whose colours are not sRGB: converted by the profile they carry, or by the primaries they name."""

import io

import numpy as np
import numpy.typing as npt
from PIL import Image, ImageCms

from vinter.core.camera.illuminant import linear_srgb

U8 = npt.NDArray[np.uint8]
DISPLAY_P3 = 12  # number of these colour primaries in ITU-T H.273
SRGB_OF_P3 = np.array([[1.2249, -0.2247, 0.0], [-0.0420, 1.0419, 0.0], [-0.0197, -0.0786, 1.0979]])


def profile_name(image: Image.Image) -> str:
    """What a picture's colours are said to be: the name of its profile, of its primaries, or sRGB."""
    data = image.info.get("icc_profile")
    if data:
        try:
            return str(ImageCms.getProfileDescription(ImageCms.ImageCmsProfile(io.BytesIO(data)))).strip()
        except (ImageCms.PyCMSError, OSError, ValueError):
            return "a profile that cannot be read, taken for sRGB"
    return "Display P3" if _primaries(image) == DISPLAY_P3 else "sRGB"


def _primaries(image: Image.Image) -> int:
    nclx = image.info.get("nclx_profile")
    return int(nclx.get("color_primaries", 0)) if isinstance(nclx, dict) else 0


def srgb_pixels(image: Image.Image) -> U8:
    """The pixels (height, width, 3) of an opened picture in sRGB; wide gamuts are converted, what lies
    outside
    sRGB is cut."""
    data, name = image.info.get("icc_profile"), profile_name(image)
    if data and "srgb" not in name.lower() and not name.startswith("a profile that"):
        try:
            there = ImageCms.createProfile("sRGB")
            source = image if image.mode in ("RGB", "L", "CMYK") else image.convert("RGB")
            found = ImageCms.profileToProfile(source, io.BytesIO(data), there, outputMode="RGB")
            if found is not None:
                return np.asarray(found, np.uint8)
        except (ImageCms.PyCMSError, OSError, ValueError):
            pass
    pixels = np.asarray(image.convert("RGB"))
    return _from_p3(pixels) if not data and _primaries(image) == DISPLAY_P3 else pixels


def _from_p3(pixels: U8) -> U8:
    """Display P3 in sRGB, in bands so that large pictures need little memory."""
    linear = linear_srgb(np.arange(256) / 255).astype(np.float32)
    out = np.empty_like(pixels)
    for top in range(0, pixels.shape[0], 256):
        light = np.clip(linear[pixels[top : top + 256]] @ SRGB_OF_P3.T.astype(np.float32), 0, 1)
        encoded = np.where(light <= 0.0031308, 12.92 * light, 1.055 * light ** (1 / 2.4) - 0.055)
        out[top : top + 256] = np.round(255 * encoded)
    return out
