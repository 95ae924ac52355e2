"""One frame as it came and the finished picture side by side, cut alike: for showing what the night gave."""

from dataclasses import replace

import cv2
import numpy as np
import numpy.typing as npt
from PIL import Image, ImageDraw, ImageFont

from vinter.core.finish.canvas import fresh
from vinter.core.finish.moves.geometry import Geometry
from vinter.core.finish.recipe import RecipeParts
from vinter.core.finish.scene import Scene

U8 = npt.NDArray[np.uint8]
WORDS_SHARE = 0.028  # of the picture's shorter side: height of the words
LEAST_WORDS = 14  # px
INK, PAPER = (16, 33, 63), (241, 243, 242)


def cut_alike(frame: U8, recipe: RecipeParts, scene: Scene) -> U8:
    """A developed frame (h, w, 3; any size, of the scene's view) turned and cropped as a recipe does."""
    laid = cv2.resize(frame, scene.size, interpolation=cv2.INTER_AREA).astype(np.float32) / 255
    canvas = recipe.of(Geometry).apply(replace(fresh(scene), rgb=np.ascontiguousarray(laid)), scene)
    return np.asarray(np.clip(np.round(canvas.rgb * 255), 0, 255), np.uint8)


def before_after(before: U8, after: U8, words: tuple[str, str]) -> U8:
    """Two pictures of a view (h, w, 3; sRGB) as one: the left half of the first and the right half of the
    second when they are wider than high, else its upper and its lower half; each with its words below or
    beside, on a strip of paper."""
    height, width = after.shape[:2]
    if before.shape != after.shape:
        before = np.asarray(cv2.resize(before, (width, height), interpolation=cv2.INTER_AREA), np.uint8)
    across = width >= height
    both = after.copy()
    if across:
        both[:, : width // 2] = before[:, : width // 2]
        both[:, width // 2 - 1 : width // 2 + 1] = PAPER
    else:
        both[: height // 2] = before[: height // 2]
        both[height // 2 - 1 : height // 2 + 1] = PAPER
    letters = max(round(WORDS_SHARE * min(width, height)), LEAST_WORDS)
    strip = Image.new("RGB", (width, 2 * letters if across else round(3.4 * letters)), PAPER)
    pen, font = ImageDraw.Draw(strip), ImageFont.load_default(letters)
    if across:
        pen.text((letters // 2, letters), words[0], fill=INK, font=font, anchor="lm")
        pen.text((width // 2 + letters // 2, letters), words[1], fill=INK, font=font, anchor="lm")
    else:
        pen.text((letters // 2, letters), f"above: {words[0]}", fill=INK, font=font, anchor="lm")
        pen.text((letters // 2, round(2.4 * letters)), f"below: {words[1]}", fill=INK, font=font, anchor="lm")
    return np.vstack([both, np.asarray(strip, np.uint8)])
