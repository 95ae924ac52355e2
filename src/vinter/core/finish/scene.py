"""A stack prepared for editing: the picture at a working size, its mask, and what was measured in it."""

import json
from dataclasses import asdict, dataclass, replace
from pathlib import Path

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.camera.projection import RECTILINEAR
from vinter.core.errors import BadInput
from vinter.core.finish.coverage import covered
from vinter.core.finish.cut_light import white_where_cut
from vinter.core.finish.smooth_glow import fitted_glow, galaxy_light, surface
from vinter.core.finish.star_field import StarField, found_stars, star_field
from vinter.core.finish.star_white import StarWhite, star_white
from vinter.core.formats.whole import whole
from vinter.core.frames.frame import Colour
from vinter.core.sky.ephemeris import GALACTIC_CENTRE
from vinter.core.stack.file import colour_from, read_about, read_stack
from vinter.core.stack.plate_solve import Solution, field_from

F32 = npt.NDArray[np.float32]
Array = npt.NDArray[np.float64]
LEAST_UP = 0.15  # length of the zenith's direction across the lens from which it tells which way is up
SCENE_VERSION = 7  # version of what is measured and kept in a prepared scene
COARSE = 160  # px across, for the smooth glow
WHITEST = 99.5  # per cent of a sensor's levels, at the end of which a picture without a night sky is white


WHOLE = (0.0, 0.0, 1.0, 1.0)
WIDE_DEGREES = 70.0  # degrees across, assumed for a picture whose lens is not known


@dataclass(frozen=True, kw_only=True)
class Scene:
    """Linear camera RGB (h, w, 3), share of sky (h, w), colour data, scale against full size, and measures.

    background (3,) is the sky's level and noise its full-size noise, both in the picture's units; glow (k
    terms, 3) the smooth sky as a surface over shares of width and height, the galaxy's own light left out
    where the field is known. ``window`` is the part of the picture that is here (left, top, width, height in
    shares). ``white`` is what the stars say of the light, ``field`` where they stand, ``stars`` what they
    show of the lens; ``night`` whether it is a night sky at all, ``moonlit`` whether the Moon lights it, and
    ``full`` the level that is drawn white where it is none.
    """

    rgb: F32
    sky: F32
    colour: Colour
    scale: float
    background: Array
    noise: float
    glow: Array
    core: tuple[float, float]
    field: Solution | None = None
    white: StarWhite | None = None
    stars: StarField | None = None
    night: bool = True
    moonlit: bool = False
    full: float = 1.0
    window: tuple[float, float, float, float] = WHOLE

    @property
    def shape(self) -> float:
        """Height of the whole picture over its width."""
        h, w = self.sky.shape
        return float(h / self.window[3] / (w / self.window[2]))

    @property
    def degrees_px(self) -> float:
        """Degrees a pixel here, in the centre of the picture."""
        if self.field:
            return float(self.field.scale_arcsec / 3600 / self.scale)
        return float(WIDE_DEGREES * self.window[2] / self.sky.shape[1])

    @property
    def tilt(self) -> float | None:
        """Degrees by which the picture must be turned clockwise to stand level, by the stars; None where no
        field is known, or where the lens looks straight up."""
        if self.field is None or not self.field.zenith or self.field.layout != RECTILINEAR:
            return None
        right, down, _ = np.array(self.field.rotation) @ np.array(self.field.zenith)
        if np.hypot(right, down) < LEAST_UP:
            return None
        return float(np.degrees(np.arctan2(-right, -down)))

    @property
    def looked_up(self) -> float | None:
        """Degrees by which the lens looked up, by the stars, which makes walls lean; None as for ``tilt``."""
        if self.tilt is None or self.field is None or self.field.zenith is None:
            return None
        ahead = float((np.array(self.field.rotation) @ np.array(self.field.zenith))[2])
        return float(np.degrees(np.arcsin(np.clip(ahead, -1, 1))))

    @property
    def holds_core(self) -> bool:
        """Whether the core lies in the picture; taken for granted where no field is known."""
        return self.field is None or _core_in(self.field) is not None

    @property
    def corner_px(self) -> float:
        """Px at full size from the centre of the whole picture to its corner."""
        h, w = self.sky.shape
        return float(np.hypot(w / self.window[2], h / self.window[3]) / self.scale / 2)

    @property
    def size(self) -> tuple[int, int]:
        """Width and height at the working size."""
        return self.rgb.shape[1], self.rgb.shape[0]


def _brightest_place(small: F32, sky: F32, glow: Array) -> tuple[float, float]:
    """Where the sky stands highest over its glow: the core, in shares of width and height."""
    h, w = sky.shape
    gx, gy = np.meshgrid((np.arange(w) + 0.5) / w, (np.arange(h) + 0.5) / h)
    over = small[..., 1] - surface(glow, gx, gy)[..., 1]
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


def prepare(
    rgb: F32,
    mask: npt.NDArray[np.uint8] | None,
    colour: Colour,
    longest: int | None = None,
    field: Solution | None = None,
    night: bool = True,
    moonlit: bool = False,
) -> Scene:
    """A scene from a full-size stack, reduced so that its longer side is at most ``longest`` px; with its
    solved ``field`` the galaxy is told from the glow, and the stars tell the white. Without a ``night`` sky
    nothing is suggested that needs one; a ``moonlit`` one is left brighter."""
    height, width = rgb.shape[:2]
    sky: F32 = np.ones((height, width), np.float32)
    if mask is not None:
        sky = np.asarray(mask.astype(np.float32) / 255, np.float32)
    if sky.shape != (height, width):
        raise BadInput(f"the mask is {sky.shape[1]} x {sky.shape[0]} px, the picture {width} x {height}")
    rgb = white_where_cut(rgb, colour)
    sky = covered(rgb, sky)
    noise = pixel_noise(rgb)
    small_size = (COARSE, max(COARSE * height // width, 1))
    small, small_sky = (cv2.resize(v, small_size, interpolation=cv2.INTER_AREA) for v in (rgb, sky))
    calm = _starless(rgb, small_size)
    if field is not None and (field.width, field.height) != (width, height):
        field = None
    glow = fitted_glow(calm, small_sky, galaxy_light(field, small_size, colour) if field else None)
    inside = small_sky > 0.98
    background = np.median(small[inside] if inside.any() else small.reshape(-1, 3), axis=0).astype(float)
    plane, found = found_stars(rgb)
    stars = star_field(rgb, sky, plane, found)
    white = star_white(rgb, sky, field, found.xy) if field else None
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
        night=night,
        moonlit=moonlit,
        full=_full(rgb, colour),
        core=_core(field, small, small_sky, glow),
        field=field,
        white=white,
        stars=stars,
    )


def scene_of(path: Path, longest: int) -> Scene:
    """A stack's file prepared at a working size, with all that the file says of itself."""
    about = read_about(path)
    return prepare(*read_stack(path), longest, about.solved, about.night, about.moonlit)


def _full(rgb: F32, colour: Colour) -> float:
    """The level of white: of a finished picture the one it has, of a sensor's data that of its brightest
    places."""
    return 1.0 if colour.finished else max(float(np.percentile(rgb[::8, ::8], WHITEST)), 1e-6)


def _starless(rgb: F32, size: tuple[int, int]) -> F32:
    """The picture reduced, with its stars left out: of four times as many places a median."""
    large = cv2.resize(rgb, (size[0] * 4, size[1] * 4), interpolation=cv2.INTER_AREA)
    return np.asarray(
        cv2.resize(
            cv2.medianBlur(np.ascontiguousarray(large, np.float32), 5), size, interpolation=cv2.INTER_AREA
        )
    )


def _core(field: Solution | None, small: F32, sky: F32, glow: Array) -> tuple[float, float]:
    """Where the core stands, in shares: solved when it lies in the frame, else the brightest place."""
    at = _core_in(field) if field is not None else None
    return at or _brightest_place(small, sky, glow)


def _core_in(field: Solution) -> tuple[float, float] | None:
    """The core's place in a solved field, in shares; None when it is not in it."""
    x, y, front = field.pixels(np.array([GALACTIC_CENTRE]))
    at = (float(x[0]) + 0.5) / field.width, (float(y[0]) + 0.5) / field.height
    return at if front[0] and 0.03 < at[0] < 0.97 and 0.03 < at[1] < 0.97 else None


def region(
    whole: Scene, rgb: F32, mask: npt.NDArray[np.uint8] | None, box: tuple[int, int, int, int]
) -> Scene:
    """A part (left, top, width, height in px) of a full-size picture as a scene, with the measures of the
    whole."""
    height, width = rgb.shape[:2]
    left, top, wide, high = box
    part = np.s_[top : top + high, left : left + wide]
    here = white_where_cut(np.ascontiguousarray(rgb[part], np.float32), whole.colour)
    share = (
        np.ones((high, wide), np.float32) if mask is None else mask[part].astype(np.float32) / np.float32(255)
    )
    window = (left / width, top / height, wide / width, high / height)
    return replace(
        whole, rgb=here, sky=covered(here, np.asarray(share, np.float32)), scale=1.0, window=window
    )


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
            "night": scene.night,
            "moonlit": scene.moonlit,
            "full": scene.full,
            "field": asdict(scene.field) if scene.field else None,
            "white": asdict(scene.white) if scene.white else None,
            "stars": asdict(scene.stars) if scene.stars else None,
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
            colour=colour_from(meta),
            scale=meta["scale"],
            background=np.array(meta["background"]),
            noise=meta["noise"],
            glow=np.array(meta["glow"]),
            core=(meta["core"][0], meta["core"][1]),
            field=field_from(meta["field"]) if meta.get("field") else None,
            night=meta.get("night") is not False,
            moonlit=bool(meta.get("moonlit")),
            full=meta.get("full", 1.0),
            white=StarWhite(**meta["white"]) if meta.get("white") else None,
            stars=StarField(**meta["stars"]) if meta.get("stars") else None,
        )
