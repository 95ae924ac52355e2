"""Scenes and renderers kept in memory while someone edits; each is used by one request at a time."""

import threading
from collections import OrderedDict
from dataclasses import dataclass, field
from pathlib import Path

import cv2
import numpy as np

from vinter.core.finish.guard import Limits, limits
from vinter.core.finish.recipe import RecipeParts
from vinter.core.finish.render import Renderer, histogram, to_8bit
from vinter.core.finish.scene import Scene, load_scene
from vinter.core.formats.pictures import jpeg_bytes

MOST = 4
DRAFT_PX = 800


@dataclass
class EditSession:
    """A stack being edited: its scene at working and at draft size, each with a renderer."""

    scene: Scene
    full: Renderer
    draft: Renderer
    lock: threading.Lock = field(default_factory=threading.Lock)


def reduced(scene: Scene, longest: int) -> Scene:
    """A scene at a smaller working size."""
    factor = min(longest / max(scene.size), 1.0)
    size = (round(scene.size[0] * factor), round(scene.size[1] * factor))
    rgb, sky = (
        np.ascontiguousarray(cv2.resize(v, size, interpolation=cv2.INTER_AREA))
        for v in (scene.rgb, scene.sky)
    )
    return Scene(
        rgb=rgb,
        sky=sky,
        colour=scene.colour,
        scale=scene.scale * factor,
        background=scene.background,
        noise=scene.noise,
        glow=scene.glow,
        core=scene.core,
    )


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

    def of(self, working: Path) -> EditSession:
        """The session of a stack's working copy, from memory or from disk."""
        key = (working, working.stat().st_mtime_ns)
        with self._guard:
            if key in self._sessions:
                self._sessions.move_to_end(key)
                return self._sessions[key]
        scene = load_scene(working)
        made = EditSession(scene, Renderer(scene), Renderer(reduced(scene, DRAFT_PX)))
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
    """A rendered draft: JPEG bytes, histogram by colour, what the data can bear, size in px.

    to_shares (2 x 3) maps its pixels to shares of the uncropped, unturned picture.
    """

    jpeg: bytes
    histogram: list[list[int]]
    limits: Limits
    size: tuple[int, int]
    to_shares: list[list[float]]


def render(working: Path, recipe: RecipeParts, draft: bool) -> Rendered:
    """Render a recipe for the screen."""
    editing = SESSIONS.of(working)
    with editing.lock:
        canvas = (editing.draft if draft else editing.full).render(recipe)
        picture = to_8bit(canvas)
    found = limits(editing.scene, recipe, picture)
    return Rendered(
        jpeg_bytes(picture, 82 if draft else 92),
        histogram(picture),
        found,
        (picture.shape[1], picture.shape[0]),
        canvas.to_shares.tolist(),
    )
