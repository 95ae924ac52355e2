"""What a plan would give: one frame and the stack of many, of the planned sky through the chosen lens, by the
simulated phone's own physics.

The whole picture is computed at a reduced size in which every pixel gathers what the pixels under it would; a
part of it at full size.
"""

from dataclasses import dataclass, replace

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.camera.phones import Lens
from vinter.core.camera.projection import View, view_of
from vinter.core.finish.moves.core_light import CoreLight
from vinter.core.finish.moves.gradient_removal import GradientRemoval, glow_base
from vinter.core.finish.recipe import RecipeParts
from vinter.core.finish.render import Renderer, to_8bit
from vinter.core.finish.scene import Scene, prepare
from vinter.core.finish.smooth_glow import surface
from vinter.core.finish.suggestion import suggest
from vinter.core.frames.mosaic import demosaic
from vinter.core.frames.raw import colour_from
from vinter.core.simulate.capture import Burst
from vinter.core.simulate.exposing import digitise
from vinter.core.simulate.phone import SimulatedPhone
from vinter.core.simulate.raw_colour import MATRIX, NEUTRAL
from vinter.core.simulate.starlight import BEST_SIGMA

F32 = npt.NDArray[np.float32]
U8 = npt.NDArray[np.uint8]
WHOLE_PX = 800  # px across the reduced picture
PIXEL_SIGMA = 0.75  # px; what the width of a block of four adds to a star drawn at a reduced size
PART = (640, 426)  # px of the part at full size
RGGB = np.array([[0, 1], [1, 2]])
SCALE, BLACK = 60000.0, 4096.0  # digits of a level of 1, and of black


@dataclass(frozen=True)
class Expected:
    """Linear camera RGB (h, w, 3; 0 black, 1 white) of one frame and of the stack, and the share of sky."""

    frame: F32
    stack: F32
    sky: F32


def reduced(lens: Lens, factor: float) -> Lens:
    """A lens whose pixels each gather those of a square of ``factor`` on a side: electrons, dark current and
    well grow with its area, read noise with its side."""
    return replace(
        lens,
        pitch=lens.pitch * factor,
        width=int(lens.width / factor) // 2 * 2,
        height=int(lens.height / factor) // 2 * 2,
        well=lens.full_well * factor**2,
        dark_current=lens.dark_current * factor**2,
        read_noise=tuple((iso, noise * factor) for iso, noise in lens.read_noise),
    )


def _levels(phone: SimulatedPhone, electrons: F32, count: int, seed: int) -> F32:
    """Levels (0 to 1) of a mosaic after ``count`` frames averaged: shot and read noise, dark current and
    black
    taken out."""
    lens, burst = phone.burst.lens, phone.burst
    white = lens.full_scale(burst.iso)
    z = np.random.default_rng([burst.seed, 91, seed]).standard_normal(electrons.shape, np.float32)
    out = np.empty(electrons.shape, np.uint16)
    gain = SCALE / white
    dark = gain * lens.dark_current * burst.shutter
    digitise(
        electrons, z / np.float32(np.sqrt(count)), lens.noise_at(burst.iso), gain, BLACK - dark, 65535, out
    )
    return np.asarray((out.astype(np.float32) - np.float32(BLACK)) / np.float32(SCALE), np.float32)


def _phone(burst: Burst, view: View | None, sharpest: float) -> SimulatedPhone:
    phone = SimulatedPhone(replace(burst, traffic=False), view, sharpest)
    nowhere = (np.zeros(0, np.intp), np.zeros(0))
    phone.__dict__["_hot"] = nowhere  # darks and clipping take hot pixels out of a stack
    return phone


def whole(burst: Burst, across: int = WHOLE_PX) -> Expected:
    """The whole picture, ``across`` px wide (of a landscape frame): every pixel from a block of the
    mosaic."""
    longest = max(burst.lens.width, burst.lens.height)
    factor = max(longest / (2 * across), 1.0)
    lens = reduced(burst.lens, factor)
    sharpest = float(np.hypot(BEST_SIGMA / factor, PIXEL_SIGMA if factor > 1 else 0.0))
    phone = _phone(replace(burst, lens=lens), None, sharpest)
    electrons = phone.electrons(0)

    def halved(levels: F32) -> F32:
        green = (levels[0::2, 1::2] + levels[1::2, 0::2]) / 2
        return np.ascontiguousarray(np.stack([levels[0::2, 0::2], green, levels[1::2, 1::2]], axis=-1))

    return Expected(
        halved(_levels(phone, electrons, 1, 1)),
        halved(_levels(phone, electrons, burst.count, 2)),
        np.ascontiguousarray(
            cv2.resize(phone.ground.sky, None, fx=0.5, fy=0.5, interpolation=cv2.INTER_AREA)
        ),
    )


def part_of(burst: Burst, left: int, top: int, size: tuple[int, int] = PART) -> Expected:
    """A part of the picture at full size, its first pixel near (left, top)."""
    view = view_of(burst.lens, burst.pose, burst.portrait)
    width, height = min(size[0], view.width) // 2 * 2, min(size[1], view.height) // 2 * 2
    x = int(np.clip(left, 0, view.width - width)) // 2 * 2
    y = int(np.clip(top, 0, view.height - height)) // 2 * 2
    phone = _phone(burst, view.part(x, y, width, height), BEST_SIGMA)
    electrons = phone.electrons(0)

    def developed(levels: F32) -> F32:
        mosaic = np.clip(levels * SCALE + BLACK, 0, 65535).astype(np.uint16)
        return np.asarray((demosaic(mosaic, RGGB).astype(np.float32) - BLACK) / np.float32(SCALE), np.float32)

    return Expected(
        developed(_levels(phone, electrons, 1, 1)),
        developed(_levels(phone, electrons, burst.count, 2)),
        phone.ground.sky,
    )


def _scene(rgb: F32, sky: F32) -> Scene:
    colour = colour_from(np.array(NEUTRAL), np.array(MATRIX).reshape(3, 3))
    return prepare(rgb, np.round(sky * 255).astype(np.uint8), colour)


def finished(found: Expected) -> tuple[U8, U8, RecipeParts, Scene]:
    """Frame and stack with the suggested finish of the stack; the recipe, and the stack prepared for it."""
    scene = _scene(found.stack, found.sky)
    recipe = suggest(scene)
    frame = to_8bit(Renderer(_scene(found.frame, found.sky)).render(recipe))
    return frame, to_8bit(Renderer(scene).render(recipe)), recipe, scene


def finished_part(
    found: Expected, recipe: RecipeParts, scene: Scene, place: tuple[float, float, float, float]
) -> tuple[U8, U8]:
    """Frame and stack of a part with the recipe of the whole picture; ``place`` (left, top, width, height) in
    shares of it."""
    left, top, wide, high = place
    height, width = found.sky.shape
    gx, gy = np.meshgrid(np.linspace(0, 1, 16), np.linspace(0, 1, 16))
    gradient = recipe.of(GradientRemoval)
    over = (surface(scene.glow, left + gx * wide, top + gy * high) - glow_base(scene)) * gradient.share
    taken = cv2.resize(over.astype(np.float32), (width, height)) * found.sky[..., None]
    own = recipe.with_moves(GradientRemoval(), CoreLight())
    out = []
    for rgb in (found.frame, found.stack):
        here = replace(
            _scene(np.asarray(rgb - taken, np.float32), found.sky), background=gradient.background(scene)
        )
        out.append(to_8bit(Renderer(here).render(own)))
    return out[0], out[1]
