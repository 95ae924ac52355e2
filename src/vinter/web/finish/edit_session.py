"""Scenes and renderers kept in memory while someone edits; pictures are drawn one at a time."""

import math
import threading
from collections import OrderedDict
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, field, replace
from pathlib import Path

import cv2
import numpy as np
import numpy.typing as npt
import tifffile

from vinter.core.errors import BadInput
from vinter.core.finish.before_after import before_after, cut_alike
from vinter.core.finish.canvas import Canvas
from vinter.core.finish.destinations import made_size
from vinter.core.finish.guard import Limits, ends, limits
from vinter.core.finish.recipe import RecipeParts
from vinter.core.finish.render import U8, PartRenderer, Renderer, histogram, to_8bit
from vinter.core.finish.scene import Scene, load_scene
from vinter.core.formats.jpeg_halves import jpeg_in_halves
from vinter.core.formats.pictures import jpeg_bytes
from vinter.core.stack.file import read_stack

MOST = 4
DRAFT_PX, SMALL_PX, SAMPLE_PX = 800, 300, 512
STEP_PX, SIZES = 100, 3  # px between sizes that whole pictures are drawn at, and how many are held
QUALITY, DRAFT_QUALITY, PART_QUALITY = (
    89,
    82,
    92,
)  # of JPEGs on the screen; a part is seen px by px
# a picture is drawn on every core; in one thread, for the others that help it are at hand there already
DRAWING = ThreadPoolExecutor(1, thread_name_prefix="drawing")
PACKING = ThreadPoolExecutor(2, thread_name_prefix="packing")
SHOWS = ("sky", "ground", "mask", "clipped")
VEILED, CHECK_PX = (
    0.18,
    6,
)  # light of the zone that is not shown alone; px of the pattern that marks what is cut


@dataclass
class EditSession:
    """A stack being edited: its scene at working size and at those that screens asked for, each with a
    renderer; and the picture itself, of which parts are shown at full size."""

    scene: Scene
    stack: Path
    _renderers: OrderedDict[int, Renderer] = field(default_factory=OrderedDict)
    _whole: tuple[npt.NDArray[np.float32], npt.NDArray[np.uint8] | None] | None = None
    _part: PartRenderer | None = None

    def drawn(self, recipe: RecipeParts, view: "View") -> tuple[Canvas, U8, float]:
        """The canvas of a recipe as it is wanted, its bytes, and its px as a share of the file's; asked for
        in the drawing thread."""
        if view.middle:
            canvas = self.part(view.middle, view.size).render(recipe)
            return canvas, to_8bit(canvas), 1.0
        renderer = self.whole(self._longest(recipe, view))
        canvas = renderer.render(recipe)
        return canvas, to_8bit(canvas), renderer.scene.scale

    def _longest(self, recipe: RecipeParts, view: "View") -> int:
        """Px of the longer side of the whole picture that a view needs, of a crop in proportion."""
        if view.draft:
            return min(view.wide or DRAFT_PX, DRAFT_PX)
        if not view.wide:
            return max(self.scene.size)
        uncut = max(self.scene.size) / self.scene.scale
        return math.ceil(view.wide * uncut / max(made_size(recipe, self.scene)))

    def whole(self, longest: int) -> Renderer:
        """A renderer of the whole picture at no less than this size, or at the working size."""
        px = min(-(-longest // STEP_PX) * STEP_PX, max(self.scene.size))
        if px not in self._renderers:
            self._renderers[px] = Renderer(reduced(self.scene, px))
        self._renderers.move_to_end(px)
        while len(self._renderers) > SIZES:
            self._renderers.popitem(last=False)
        return self._renderers[px]

    def part(self, middle: tuple[float, float], size: tuple[int, int]) -> PartRenderer:
        """A renderer of a part at full size about a place in shares."""
        rgb, mask = self._whole or self._opened()
        height, width = rgb.shape[:2]
        wide, high = min(size[0], width), min(size[1], height)
        left = int(np.clip(middle[0] * width - wide / 2, 0, width - wide))
        top = int(np.clip(middle[1] * height - high / 2, 0, height - high))
        box = (left, top, wide, high)
        if self._part is None or self._part.box != box:
            self._part = PartRenderer(self.scene, rgb, mask, box)
        return self._part

    def parts_of(self, recipe: RecipeParts) -> list[Canvas]:
        """Two parts of the picture at full size, of sky and of what lies below; in the drawing thread."""
        return [self.part((0.5, y), (SAMPLE_PX, SAMPLE_PX)).render(recipe) for y in (0.3, 0.8)]

    def _opened(self) -> tuple[npt.NDArray[np.float32], npt.NDArray[np.uint8] | None]:
        """The picture, mapped where its file allows, and its mask."""
        rgb, mask, _ = read_stack(self.stack)
        with suppress(ValueError):
            rgb = tifffile.memmap(self.stack, mode="r")
        self._whole = rgb, mask
        return self._whole


def reduced(scene: Scene, longest: int) -> Scene:
    """A scene at a smaller working size."""
    factor = min(longest / max(scene.size), 1.0)
    if factor == 1:
        return scene
    size = (round(scene.size[0] * factor), round(scene.size[1] * factor))
    rgb, sky = (
        np.ascontiguousarray(cv2.resize(v, size, interpolation=cv2.INTER_AREA))
        for v in (scene.rgb, scene.sky)
    )
    return replace(scene, rgb=rgb, sky=sky, scale=scene.scale * factor)


class EditSessions:
    """The sessions in memory, by working copy as it is now; of more than a few the longest unused goes."""

    def __init__(self, most: int) -> None:
        self.most = most
        self._sessions: OrderedDict[tuple[Path, int], EditSession] = OrderedDict()
        self._guard = threading.Lock()

    def __len__(self) -> int:
        return len(self._sessions)

    def __contains__(self, working: Path) -> bool:
        return any(path == working for path, _ in self._sessions)

    def of(self, working: Path, stack: Path | None = None) -> EditSession:
        """The session of a stack's working copy, from memory or from disk."""
        key = (working, working.stat().st_mtime_ns)
        with self._guard:
            if key in self._sessions:
                self._sessions.move_to_end(key)
                return self._sessions[key]
        scene = load_scene(working)
        picture = stack or working.with_name("stack.tif")
        made = EditSession(scene, picture)
        with self._guard:
            self._sessions[key] = made
            while len(self._sessions) > self.most:
                self._sessions.popitem(last=False)
        return made

    def clear(self) -> None:
        """Forget all."""
        with self._guard:
            self._sessions.clear()


SESSIONS = EditSessions(MOST)


@dataclass(frozen=True)
class Rendered:
    """A rendered draft: JPEG bytes, histogram by zone, what the data can bear, size in px, and those px as a
    share of the file's.

    to_shares (3 x 3) maps its pixels to shares of the uncropped, unturned picture.
    """

    jpeg: bytes
    histogram: dict[str, list[int]]
    limits: Limits
    size: tuple[int, int]
    scale: float
    to_shares: list[list[float]]


@dataclass(frozen=True)
class View:
    """What of the picture is wanted: whole, with a longer side of ``wide`` px (0 is the working size, and it
    is never larger); a draft, whose uncropped picture has ``wide`` px at most; or a part at full size about
    ``middle``; and whether one zone, the mask or what is cut is shown."""

    draft: bool = False
    wide: int = 0
    middle: tuple[float, float] | None = None
    size: tuple[int, int] = (0, 0)
    show: str = ""


def render(working: Path, recipe: RecipeParts, view: View) -> Rendered:
    """Render a recipe for the screen."""
    editing = SESSIONS.of(working)
    # where the sliders end is found while the picture is drawn
    marks = None if view.draft else PACKING.submit(ends, editing.scene, recipe)
    canvas, picture, scale = DRAWING.submit(editing.drawn, recipe, view).result()
    # the picture is packed beside, while its light is counted
    quality = DRAFT_QUALITY if view.draft else PART_QUALITY if view.middle else QUALITY
    packed = jpeg_in_halves(shown(picture, canvas, view.show), quality, PACKING)
    found = limits(editing.scene, recipe, picture, marks.result() if marks else {})
    counts = histogram(picture, canvas.sky)
    return Rendered(
        packed(),
        counts,
        found,
        (picture.shape[1], picture.shape[0]),
        scale,
        canvas.to_shares.tolist(),
    )


def shown(picture: U8, canvas: Canvas, show: str) -> U8:
    """One zone with the other veiled, the mask, or what is cut marked by a pattern; nothing for the
    picture."""
    if show in ("sky", "ground"):
        share = canvas.sky if show == "sky" else 1 - canvas.sky
        return np.asarray(picture * (VEILED + (1 - VEILED) * share)[..., None], np.uint8)
    if show == "mask":
        return np.asarray(np.repeat((canvas.sky * 255 + 0.5).astype(np.uint8)[..., None], 3, axis=2))
    if show == "clipped":
        y, x = np.mgrid[: picture.shape[0], : picture.shape[1]]
        check = ((y // CHECK_PX + x // CHECK_PX) % 2 == 0)[..., None]
        cut = (picture.max(axis=2) >= 254) | (picture.max(axis=2) <= 1)
        marked = np.where(check, np.uint8(255), np.uint8(0))
        return np.asarray(np.where(cut[..., None], marked, picture // 2 + 32), np.uint8)
    return picture


def beside_a_frame(working: Path, recipe: RecipeParts, frame: Path, words: tuple[str, str]) -> bytes:
    """A frame's developed JPEG, cut as the recipe does, beside the finished picture, as one JPEG; ``words``
    stand under them."""
    editing = SESSIONS.of(working)
    read = cv2.imread(str(frame), cv2.IMREAD_COLOR_RGB)
    if read is None:
        raise BadInput(f"{frame.name}: this frame's picture cannot be read")
    _, picture, _ = DRAWING.submit(editing.drawn, recipe, View()).result()
    before = cut_alike(np.asarray(read, np.uint8), recipe, editing.scene)
    return jpeg_in_halves(before_after(before, picture, words), QUALITY, PACKING)()


def small(working: Path, recipe: RecipeParts) -> bytes:
    """A recipe on a small copy, as a JPEG."""
    scene = reduced(SESSIONS.of(working).scene, SMALL_PX)
    canvas = DRAWING.submit(Renderer(scene).render, recipe).result()
    return jpeg_bytes(to_8bit(canvas), 85)
