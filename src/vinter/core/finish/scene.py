"""A stack prepared for editing: the picture at a working size, its mask, and what was measured in it."""

import json
from dataclasses import dataclass
from pathlib import Path

import cv2
import numpy as np
import numpy.typing as npt
import tifffile

from vinter.core.errors import BadInput
from vinter.core.formats.whole import whole
from vinter.core.frames.reading import Colour

F32 = npt.NDArray[np.float32]
Array = npt.NDArray[np.float64]
EDGE_PX, BESIDE_PX = (
    7,
    31,
)  # px about the mask's edge that are looked at, and from which sky and ground are known
LEAST_BESIDE = 0.02  # share of that window that must be sky, and ground
APART = 0.25  # of the sky's light, by which the ground must be darker to tell how much of a pixel is sky
COARSE = 160  # px across, for the smooth glow


@dataclass(frozen=True, kw_only=True)
class Scene:
    """Linear camera RGB (h, w, 3), share of sky (h, w), colour data, scale against full size, and measures.

    background (3,) is the sky's level and noise its full-size noise, both in the picture's units;
    glow (4 or 10 terms, 3) the smooth sky as a polynomial over shares of width and height.
    """

    rgb: F32
    sky: F32
    colour: Colour
    scale: float
    background: Array
    noise: float
    glow: Array
    core: tuple[float, float]

    @property
    def size(self) -> tuple[int, int]:
        """Width and height at the working size."""
        return self.rgb.shape[1], self.rgb.shape[0]


def terms(x: Array, y: Array) -> Array:
    """Terms of the glow polynomial of third degree."""
    return np.stack([x**i * y**j for i in range(4) for j in range(4 - i)], axis=-1)


def _glow(small: F32, sky: F32) -> Array:
    """Fit the smooth sky per colour, leaning to its darker side so that stars and band do not count as
    glow."""
    h, w = sky.shape
    gx, gy = np.meshgrid((np.arange(w) + 0.5) / w, (np.arange(h) + 0.5) / h)
    inside = sky > 0.98
    if inside.sum() < 100:
        inside = np.ones_like(sky, bool)
    t, values = terms(gx[inside], gy[inside]), small[inside].astype(float)
    weight = np.ones(len(t))
    out = np.zeros((t.shape[1], 3))
    for _ in range(6):
        root = np.sqrt(weight)[:, None]
        out, *_ = np.linalg.lstsq(t * root, values * root, rcond=None)
        error = (values - t @ out)[:, 1]
        spread = 1.4826 * np.median(np.abs(error)) + 1e-9
        weight = np.where(error > 0, 0.25, 1.0) * np.exp(-0.5 * (error / (2 * spread)) ** 2)
    return out


def _brightest_place(small: F32, sky: F32, glow: Array) -> tuple[float, float]:
    """Where the sky stands highest over its glow: the core, in shares of width and height."""
    h, w = sky.shape
    gx, gy = np.meshgrid((np.arange(w) + 0.5) / w, (np.arange(h) + 0.5) / h)
    over = small[..., 1] - (terms(gx.ravel(), gy.ravel()) @ glow)[:, 1].reshape(h, w)
    over = np.where(
        sky > 0.98, np.clip(over, 0, np.percentile(over[sky > 0.5], 97) if (sky > 0.5).any() else 1), 0
    )
    blurred = cv2.GaussianBlur(over.astype(np.float32), (0, 0), w / 16)
    y, x = np.unravel_index(int(np.argmax(blurred)), blurred.shape)
    return (float(x) + 0.5) / w, (float(y) + 0.5) / h


def pixel_noise(rgb: F32) -> float:
    """Robust noise of green from differences of neighbours two pixels apart."""
    g = rgb[: rgb.shape[0] // 2, :, 1]
    return float(1.4826 * np.median(np.abs(g[::2, 2::2] - g[::2, :-2:2])) / np.sqrt(2))


def _beside(values: F32, share: F32) -> tuple[F32, F32]:
    """Mean of the values about each place where ``share`` is 1, and how much of it there is."""
    weight = cv2.blur(share, (BESIDE_PX, BESIDE_PX))
    return np.asarray(cv2.blur(values * share, (BESIDE_PX, BESIDE_PX)) / np.maximum(weight, 1e-6)), weight


def covered(rgb: F32, mask: F32) -> F32:
    """Share of sky (0 to 1) of each pixel: the mask's, and along its edge what the picture itself shows
    between the ground's light and the sky's, so that what is taken from the sky is taken where it shines.

    Where both are alike, or one of them is not near, the mask stands.
    """
    edge = cv2.dilate(
        ((mask > 0.004) & (mask < 0.996)).astype(np.uint8), np.ones((EDGE_PX, EDGE_PX), np.uint8)
    )
    rows, columns = np.flatnonzero(edge.any(axis=1)), np.flatnonzero(edge.any(axis=0))
    if not len(rows):
        return mask
    part = np.s_[
        max(rows[0] - BESIDE_PX, 0) : rows[-1] + BESIDE_PX + 1,
        max(columns[0] - BESIDE_PX, 0) : columns[-1] + BESIDE_PX + 1,
    ]
    light = np.ascontiguousarray(rgb[part].sum(axis=2), np.float32)
    m, near = mask[part], edge[part] > 0
    sure = [np.asarray((here & ~near).astype(np.float32)) for here in (m > 0.996, m < 0.004)]
    (above, high), (below, low) = (
        _beside(np.minimum(light, 1.5 * np.median(light[m > 0.5])), s) for s in sure
    )
    apart = above - below
    share = np.clip((light - below) / np.where(apart > 0, apart, 1), 0, 1)
    fair = near & (high > LEAST_BESIDE) & (low > LEAST_BESIDE) & (apart > APART * above)
    out = mask.copy()
    out[part] = np.where(fair, share, m)
    return out


def prepare(
    rgb: F32, mask: npt.NDArray[np.uint8] | None, colour: Colour, longest: int | None = None
) -> Scene:
    """A scene from a full-size stack, reduced so that its longer side is at most ``longest`` px."""
    height, width = rgb.shape[:2]
    sky: F32 = np.ones((height, width), np.float32)
    if mask is not None:
        sky = np.asarray(mask.astype(np.float32) / 255, np.float32)
    if sky.shape != (height, width):
        raise BadInput(f"the mask is {sky.shape[1]} x {sky.shape[0]} px, the picture {width} x {height}")
    sky = covered(rgb, sky)
    noise = pixel_noise(rgb)
    small_size = (COARSE, max(COARSE * height // width, 1))
    small, small_sky = (cv2.resize(v, small_size, interpolation=cv2.INTER_AREA) for v in (rgb, sky))
    glow = _glow(small, small_sky)
    inside = small_sky > 0.98
    background = np.median(small[inside] if inside.any() else small.reshape(-1, 3), axis=0).astype(float)
    scale = min((longest or max(width, height)) / max(width, height), 1.0)
    if scale < 1:
        size = (max(round(width * scale), 1), max(round(height * scale), 1))
        rgb, sky = (cv2.resize(v, size, interpolation=cv2.INTER_AREA) for v in (rgb, sky))
    return Scene(
        rgb=np.ascontiguousarray(rgb, np.float32),
        sky=np.ascontiguousarray(sky, np.float32),
        colour=colour,
        scale=scale,
        background=np.maximum(background, 1e-6),
        noise=noise,
        glow=glow,
        core=_brightest_place(small, small_sky, glow),
    )


def read_stack(path: Path) -> tuple[F32, npt.NDArray[np.uint8] | None, Colour]:
    """A stack's picture, its mask if one lies beside it, and its colour data (neutral when it has none)."""
    try:
        with tifffile.TiffFile(path) as file:
            rgb = file.asarray()
            description = getattr(file.pages[0], "description", "") or ""
    except (OSError, ValueError, tifffile.TiffFileError) as error:
        raise BadInput(f"{path}: not a TIFF that can be read ({error})") from error
    if rgb.ndim != 3 or rgb.shape[2] < 3:
        raise BadInput(f"{path.name}: a picture of shape {rgb.shape} is not RGB")
    if np.issubdtype(rgb.dtype, np.integer):
        rgb = rgb[..., :3].astype(np.float32) / np.iinfo(rgb.dtype).max
    mask_path = path.with_suffix(".mask.png")
    mask = cv2.imread(str(mask_path), cv2.IMREAD_GRAYSCALE) if mask_path.is_file() else None
    return (
        np.ascontiguousarray(rgb[..., :3], np.float32),
        None if mask is None else np.asarray(mask, np.uint8),
        _colour(description),
    )


def _colour(description: str) -> Colour:
    try:
        data = json.loads(description)
        n = [float(v) for v in data["neutral"]]
        matrix = tuple(tuple(float(v) for v in row) for row in data["matrix"])
        return Colour((n[0], n[1], n[2]), matrix, float(data.get("kelvin", Colour.kelvin)))
    except (ValueError, KeyError, TypeError, IndexError):
        return Colour()


def save_scene(path: Path, scene: Scene) -> None:
    """Keep a prepared scene so that editing opens at once."""
    meta = json.dumps(
        {
            "neutral": scene.colour.neutral,
            "matrix": scene.colour.matrix,
            "kelvin": scene.colour.kelvin,
            "scale": scene.scale,
            "noise": scene.noise,
            "background": scene.background.tolist(),
            "glow": scene.glow.tolist(),
            "core": scene.core,
        }
    )
    with whole(path) as draft:
        np.savez(draft, rgb=scene.rgb, sky=scene.sky, meta=np.frombuffer(meta.encode(), np.uint8))


def load_scene(path: Path) -> Scene:
    """A scene kept by ``save_scene``."""
    with np.load(path) as data:
        meta = json.loads(data["meta"].tobytes())
        return Scene(
            rgb=data["rgb"],
            sky=data["sky"],
            colour=_colour(json.dumps(meta)),
            scale=meta["scale"],
            background=np.array(meta["background"]),
            noise=meta["noise"],
            glow=np.array(meta["glow"]),
            core=(meta["core"][0], meta["core"][1]),
        )
