"""Colour profiles of pictures: sRGB and Display P3, the same bytes every time."""

import struct
from functools import lru_cache

import numpy as np
import numpy.typing as npt
from PIL import ImageCms

F32 = npt.NDArray[np.float32]
PROFILE_DATE = slice(24, 36)  # bytes of the header that hold the date: ICC.1:2022, 7.2.8
DATE = struct.pack(">6H", 2000, 1, 1, 0, 0, 0)
SRGB, DISPLAY_P3 = "srgb", "display-p3"
COLOUR_SPACES = {SRGB: "sRGB", DISPLAY_P3: "Display P3"}
P3_PRIMARIES = ((0.51512, 0.24120, -0.00105), (0.29198, 0.69225, 0.04189), (0.15710, 0.06657, 0.78407))  # D50
SRGB_PRIMARIES = (  # D50, as IEC 61966-2-1 adapted
    (0.43607, 0.22249, 0.01392),
    (0.38515, 0.71687, 0.09708),
    (0.14307, 0.06061, 0.71410),
)
PRIMARIES = {SRGB: SRGB_PRIMARIES, DISPLAY_P3: P3_PRIMARIES}
D50 = (0.96420, 1.0, 0.82491)
BRADFORD = (1.04788, 0.02292, -0.05022, 0.02959, 0.99048, -0.01707, -0.00925, 0.01508, 0.75168)  # D65 to D50
# parameters of the IEC 61966-2-1 curve, as both spaces use it
CURVE = (2.4, 1 / 1.055, 0.055 / 1.055, 1 / 12.92, 0.04045)
P3_OF_SRGB = np.array([[0.82246, 0.17754, 0.0], [0.03319, 0.96681, 0.0], [0.01708, 0.07240, 0.91052]])


def _fixed(values: tuple[float, ...]) -> bytes:
    return b"".join(struct.pack(">i", round(v * 65536)) for v in values)


def _text(words: str) -> bytes:
    data = words.encode("utf-16-be")
    return b"mluc" + struct.pack(">IIIHHII", 0, 1, 12, 0x656E, 0x5553, len(data), 28) + data


@lru_cache(maxsize=4)
def profile(space: str, linear: bool = False) -> bytes:
    """The ICC profile of a colour space (a key of ``COLOUR_SPACES``), or of its linear light."""
    if space == SRGB and not linear:
        made = bytearray(ImageCms.ImageCmsProfile(ImageCms.createProfile("sRGB")).tobytes())
        made[PROFILE_DATE] = DATE
        return bytes(made)
    curve = b"para" + (
        struct.pack(">IHH", 0, 0, 0) + _fixed((1.0,))
        if linear
        else struct.pack(">IHH", 0, 3, 0) + _fixed(CURVE)
    )
    parts: dict[bytes, bytes] = {
        b"desc": _text(f"{COLOUR_SPACES[space]}, linear" if linear else COLOUR_SPACES[space]),
        b"cprt": _text("No copyright"),
        b"wtpt": b"XYZ " + bytes(4) + _fixed(D50),
        b"chad": b"sf32" + bytes(4) + _fixed(BRADFORD),
        **{
            name: b"XYZ " + bytes(4) + _fixed(primary)
            for name, primary in zip((b"rXYZ", b"gXYZ", b"bXYZ"), PRIMARIES[space], strict=True)
        },
        **dict.fromkeys((b"rTRC", b"gTRC", b"bTRC"), curve),
    }
    start = 128 + 4 + 12 * len(parts)
    table, data, places = struct.pack(">I", len(parts)), b"", {}
    for name, part in parts.items():
        if part not in places:
            places[part] = start + len(data)
            data += part + bytes(-len(part) % 4)
        table += name + struct.pack(">II", places[part], len(part))
    header = struct.pack(">I4sI4s4s4s", start + len(data), bytes(4), 0x04300000, b"mntr", b"RGB ", b"XYZ ")
    header += DATE + b"acsp" + bytes(28) + _fixed(D50)
    return header.ljust(128, b"\0") + table + data


def linear_in_space(rgb: F32, space: str) -> F32:
    """Linear light (h, w, 3) of sRGB's colours in those of another space."""
    return rgb if space == SRGB else np.asarray(rgb @ P3_OF_SRGB.T.astype(np.float32), np.float32)


def in_space(rgb: F32, space: str) -> F32:
    """Encoded sRGB (h, w, 3; what lies beyond 0 to 1 is colour that sRGB cannot show) in another space, in
    bands so that large pictures need little memory."""
    if space == SRGB:
        return rgb
    matrix = P3_OF_SRGB.T.astype(np.float32)
    out = np.empty_like(rgb)
    for top in range(0, rgb.shape[0], 256):
        part = rgb[top : top + 256]
        size = np.abs(part)
        linear = np.where(size <= 0.04045, size / 12.92, ((size + 0.055) / 1.055) ** 2.4)
        light = (np.sign(part) * linear) @ matrix
        size = np.abs(light)
        encoded = np.where(size <= 0.0031308, 12.92 * size, 1.055 * size ** (1 / 2.4) - 0.055)
        out[top : top + 256] = np.sign(light) * encoded
    return out
