"""Pictures that carry a gain map: a second, small picture in a JPEG that says by how much each place was
brighter than the first one shows, up to several EV beyond its white.

In: a JPEG with its second picture behind it and the gain map's numbers in that one's XMP. Out: linear light.
"""

import io
import re
from dataclasses import dataclass, replace
from pathlib import Path

import cv2
import numpy as np
import numpy.typing as npt
from PIL import Image

from vinter.core.frames.metadata import picture_metadata
from vinter.core.frames.reading import upright

F32 = npt.NDArray[np.float32]
START, END = b"\xff\xd8\xff", b"\xff\xd9"
NAMES = ("GainMapMin", "GainMapMax", "Gamma", "OffsetSDR", "OffsetHDR")
USUAL = {"GainMapMin": 0.0, "Gamma": 1.0, "OffsetSDR": 1 / 64, "OffsetHDR": 1 / 64}
MOST_GAIN = 16.0  # EV, over which a map is not believed
PICTURES_TRIED = 8  # pictures in one file that are looked at


@dataclass(frozen=True, kw_only=True)
class GainMap:
    """A map (h, w, 3; 0 to 1) and its numbers by colour (3,): the least and most gain (EV), the exponent that
    the map is encoded by, and what is added to the light of the first picture and of the result."""

    values: F32
    least: F32
    most: F32
    gamma: F32
    before: F32
    after: F32

    def applied(self, linear: F32) -> F32:
        """Linear light (h, w, 3; 1 is the first picture's white) with the gains applied; may exceed 1."""
        size = (linear.shape[1], linear.shape[0])
        share = cv2.resize(self.values, size, interpolation=cv2.INTER_LINEAR) ** (1 / self.gamma)
        gain = np.exp2(self.least + (self.most - self.least) * share)
        return np.asarray(np.maximum((linear + self.before) * gain - self.after, 0), np.float32)


def gain_map(path: Path) -> GainMap | None:
    """The gain map of a JPEG; None where it has none that is understood."""
    data = path.read_bytes()
    if not data.startswith(START):
        return None
    at = data.find(START, 2)
    for _ in range(PICTURES_TRIED):
        if at < 0:
            return None
        numbers = _numbers(data[at:])
        if numbers is not None:
            try:
                with Image.open(io.BytesIO(data[at:])) as image:
                    values = np.asarray(image.convert("RGB")).astype(np.float32) / np.float32(255)
            except (OSError, ValueError, SyntaxError, Image.DecompressionBombError):
                return None
            return GainMap(values=values, **numbers)
        at = data.find(START, at + 2)
    return None


def _numbers(part: bytes) -> dict[str, F32] | None:
    """What the XMP at the start of a picture says of a gain map."""
    head = part[: 65536 * 2].decode("latin-1")
    if 'hdrgm:Version="' not in head or "hdrgm:GainMapMax" not in head:
        return None
    found = {name: _values(head, name, USUAL.get(name)) for name in NAMES}
    least, most, gamma, before, after = (found[name] for name in NAMES)
    if least is None or most is None or gamma is None or before is None or after is None:
        return None
    fair = (np.abs(most) <= MOST_GAIN).all() and (np.abs(least) <= MOST_GAIN).all() and (gamma > 0.01).all()
    if not fair or re.search(r'hdrgm:BaseRenditionIsHDR="True"', head, re.I):
        return None
    return {"least": least, "most": most, "gamma": gamma, "before": before, "after": after}


def _values(head: str, name: str, usual: float | None) -> F32 | None:
    """A number of the XMP, as one for each colour; ``usual`` where it is not said."""
    one = re.search(rf'hdrgm:{name}="([-+.\deE]+)"', head)
    texts = [one[1]] if one else []
    many = re.search(rf"<hdrgm:{name}>(.*?)</hdrgm:{name}>", head, re.S)
    if many:
        texts = re.findall(r"<rdf:li>\s*([-+.\deE]+)\s*</rdf:li>", many[1])
    try:
        numbers = [float(t) for t in texts] or ([usual] if usual is not None else [])
    except ValueError:
        return None
    if len(numbers) not in (1, 3) or not np.isfinite(numbers).all():
        return None
    return np.asarray(np.broadcast_to(np.array(numbers, np.float32), 3), np.float32)


def beyond_white(path: Path, linear: F32) -> F32:
    """Linear light (h, w, 3; upright, 1 is white) of a picture with what its file's gain map says of it,
    which may exceed 1; as it is where there is no map."""
    found = gain_map(path)
    if found is None:
        return linear
    with Image.open(path) as image:
        turned = picture_metadata(image).orientation
    values = upright(np.round(found.values * 65535).astype(np.uint16), turned).astype(np.float32)
    return replace(found, values=values / np.float32(65535)).applied(linear)
