"""A finish at full size to a file, in one of the kinds there are."""

from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

import cv2
import numpy as np

from vinter.core.errors import BadInput
from vinter.core.finish.canvas import Canvas
from vinter.core.finish.recipe import RecipeParts
from vinter.core.finish.render import Renderer, dithered_8bit, to_8bit, to_16bit
from vinter.core.finish.scene import prepare, read_field, read_stack
from vinter.core.formats.pictures import PictureInfo, write_jpeg, write_png16, write_tiff16

SMALL_PX = 900
NARROWEST, WIDEST = 16, 60000


@dataclass(frozen=True)
class ExportKind:
    """A kind of finished picture: its name, the suffixes that ask for it, its content type, and what writes
    it."""

    label: str
    suffixes: tuple[str, ...]
    content_type: str
    write: Callable[[Path, Canvas, PictureInfo | None], None]


EXPORT_KINDS: dict[str, ExportKind] = {
    "jpg": ExportKind(
        "JPEG", (".jpg", ".jpeg"), "image/jpeg", lambda out, c, info: write_jpeg(out, dithered_8bit(c), info)
    ),
    "tif": ExportKind(
        "16-bit TIFF",
        (".tif", ".tiff"),
        "image/tiff",
        lambda out, c, info: write_tiff16(out, to_16bit(c), info),
    ),
    "png": ExportKind(
        "16-bit PNG", (".png",), "image/png", lambda out, c, info: write_png16(out, to_16bit(c))
    ),
}


def kind_of(name: str) -> ExportKind:
    """The kind a file's name asks for; BadInput when it asks for none."""
    suffix = Path(name).suffix.lower()
    found = next((kind for kind in EXPORT_KINDS.values() if suffix in kind.suffixes), None)
    if found is None:
        *most, last = (kind.suffixes[0] for kind in EXPORT_KINDS.values())
        raise BadInput(f"{name}: pictures are written as {', '.join(most)} or {last}")
    return found


def _reduced(canvas: Canvas, width: int | None) -> Canvas:
    height_now, width_now = canvas.sky.shape
    if width is None or width >= width_now:
        return canvas
    size = (width, max(round(height_now * width / width_now), 1))
    rgb, sky = (cv2.resize(v, size, interpolation=cv2.INTER_AREA) for v in (canvas.rgb, canvas.sky))
    return replace(canvas, rgb=np.asarray(rgb, np.float32), sky=np.asarray(sky, np.float32))


def export(
    stack: Path,
    recipe: RecipeParts,
    out: Path,
    width: int | None = None,
    info: PictureInfo | None = None,
    small: Path | None = None,
) -> tuple[int, int]:
    """Render a stack with a recipe into a picture of the kind that ``out`` names; returns width and height in
    px.

    ``width`` reduces the picture to that many px; it is never enlarged. ``small`` also gets a JPEG 900 px
    wide.
    """
    kind = kind_of(out.name)
    if width is not None and not NARROWEST <= width <= WIDEST:
        raise BadInput(f"width {width} is not within {NARROWEST} to {WIDEST} px")
    whole = Renderer(prepare(*read_stack(stack), field=read_field(stack))).render(recipe)
    canvas = _reduced(whole, width)
    if small is not None:
        write_jpeg(small, to_8bit(_reduced(whole, SMALL_PX)), info, quality=88)
    kind.write(out, canvas, info)
    return canvas.sky.shape[1], canvas.sky.shape[0]
