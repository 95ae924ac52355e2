"""A finish at full size to a file."""

from pathlib import Path

import cv2
import numpy as np

from vinter.core.errors import BadInput
from vinter.core.finish.recipe import Recipe
from vinter.core.finish.render import Renderer, to_8bit, to_16bit
from vinter.core.finish.scene import prepare, read_stack
from vinter.core.finish.steps import Canvas
from vinter.core.formats.pictures import PictureInfo, write_jpeg, write_png16, write_tiff16

SMALL_PX = 900
KINDS = {".jpg": "jpeg", ".jpeg": "jpeg", ".tif": "tiff", ".tiff": "tiff", ".png": "png"}


def _reduced(canvas: Canvas, width: int | None) -> Canvas:
    height_now, width_now = canvas.sky.shape
    if width is None or width >= width_now:
        return canvas
    size = (width, max(round(height_now * width / width_now), 1))
    rgb, sky = (cv2.resize(v, size, interpolation=cv2.INTER_AREA) for v in (canvas.rgb, canvas.sky))
    return Canvas(np.asarray(rgb, np.float32), np.asarray(sky, np.float32), canvas.to_shares)


def export(
    stack: Path,
    recipe: Recipe,
    out: Path,
    width: int | None = None,
    info: PictureInfo | None = None,
    small: Path | None = None,
) -> tuple[int, int]:
    """Render a stack with a recipe into JPEG, TIFF or PNG by the name of ``out``; returns width and height.

    ``width`` reduces the picture to that many px; it is never enlarged. ``small`` also gets a JPEG 900 px
    wide.
    """
    kind = KINDS.get(out.suffix.lower())
    if kind is None:
        raise BadInput(f"{out.name}: pictures are written as .jpg, .tif or .png")
    if width is not None and not 16 <= width <= 60000:
        raise BadInput(f"width {width} is not within 16 to 60000 px")
    whole = Renderer(prepare(*read_stack(stack))).render(recipe)
    canvas = _reduced(whole, width)
    if small is not None:
        write_jpeg(small, to_8bit(_reduced(whole, SMALL_PX)), info, quality=88)
    if kind == "jpeg":
        write_jpeg(out, to_8bit(canvas), info)
    elif kind == "tiff":
        write_tiff16(out, to_16bit(canvas), info)
    else:
        write_png16(out, to_16bit(canvas))
    return canvas.sky.shape[1], canvas.sky.shape[0]
