"""A finish at full size to a file, in one of the kinds there are."""

from collections.abc import Callable
from dataclasses import dataclass, field, replace
from pathlib import Path

import cv2
import numpy as np

from vinter.core.errors import BadInput
from vinter.core.finish.canvas import Canvas
from vinter.core.finish.drawn_names import with_names
from vinter.core.finish.moves.curve import Curve
from vinter.core.finish.recipe import RecipeParts
from vinter.core.finish.render import Renderer, dithered_8bit, to_8bit, to_16bit
from vinter.core.finish.scene import prepare
from vinter.core.formats.icc import COLOUR_SPACES, SRGB, in_space
from vinter.core.formats.pictures import PictureInfo, write_jpeg, write_linear_tiff, write_png16, write_tiff16
from vinter.core.stack.file import read_about, read_field, read_stack

SMALL_PX = 900
NARROWEST, WIDEST = 16, 60000
LEAST_DPI, MOST_DPI = 72, 1200
SCREEN_BLUR, PRINT_BLUR_MM = 0.6, 0.09  # px, and mm on paper, over which a picture is sharpened
MOST_HALO = 0.06  # encoded level that sharpening adds at most


@dataclass(frozen=True)
class ExportKind:
    """A kind of finished picture: its name, the suffixes that ask for it, its content type, what writes it,
    and whether it holds linear light, from before the curve."""

    label: str
    suffixes: tuple[str, ...]
    content_type: str
    write: Callable[[Path, Canvas, PictureInfo | None], None]
    linear: bool = False


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
        "16-bit PNG", (".png",), "image/png", lambda out, c, info: write_png16(out, to_16bit(c), info)
    ),
    "linear": ExportKind(
        "linear TIFF, 32 bit",
        (".linear.tif",),
        "image/tiff",
        lambda out, c, info: write_linear_tiff(out, c.rgb, info),
        linear=True,
    ),
}


@dataclass(frozen=True, kw_only=True)
class Output:
    """How a picture leaves: its width in px (None: as large as it is; it is never enlarged), the colour space
    of its numbers, sharpening (0 to 1) for the size it will be seen at, the density (dpi) it is printed at
    (None: for a screen), and whether the sky's lines, names and scale are drawn over it.

    Raises:
        BadInput: for a width, density, sharpening or colour space out of range.
    """

    width: int | None = None
    space: str = SRGB
    sharpening: float = 0.0
    dpi: float | None = None
    names: bool = False

    def __post_init__(self) -> None:
        if self.width is not None and not NARROWEST <= self.width <= WIDEST:
            raise BadInput(f"width {self.width} is not within {NARROWEST} to {WIDEST} px")
        if self.space not in COLOUR_SPACES:
            raise BadInput(f"colours {self.space!r} are not one of {', '.join(COLOUR_SPACES)}")
        if not 0 <= self.sharpening <= 1:
            raise BadInput(f"sharpening {self.sharpening:g} is not a share from 0 to 1")
        if self.dpi is not None and not LEAST_DPI <= self.dpi <= MOST_DPI:
            raise BadInput(f"{self.dpi:g} dpi is not within {LEAST_DPI} to {MOST_DPI}")

    @property
    def blur(self) -> float:
        """Px over which a picture is sharpened: on a screen a pixel, on paper what an eye sees as one."""
        return SCREEN_BLUR if self.dpi is None else max(PRINT_BLUR_MM / 25.4 * self.dpi, SCREEN_BLUR)


AS_IT_IS = Output()


@dataclass(frozen=True)
class Made:
    """What came of an export: width and height in px, and the centimetres that is on paper."""

    width: int
    height: int
    centimetres: tuple[float, float] | None = field(default=None)


def kind_of(name: str) -> ExportKind:
    """The kind a file's name asks for; BadInput when it asks for none."""
    asked = [
        (len(suffix), kind)
        for kind in EXPORT_KINDS.values()
        for suffix in kind.suffixes
        if name.lower().endswith(suffix)
    ]
    if not asked:
        *most, last = (kind.suffixes[0] for kind in EXPORT_KINDS.values())
        raise BadInput(f"{name}: pictures are written as {', '.join(most)} or {last}")
    return max(asked, key=lambda one: one[0])[1]


def reduced(canvas: Canvas, width: int | None) -> Canvas:
    """A canvas of at most a width."""
    height_now, width_now = canvas.sky.shape
    if width is None or width >= width_now:
        return canvas
    size = (width, max(round(height_now * width / width_now), 1))
    rgb, sky = (cv2.resize(v, size, interpolation=cv2.INTER_AREA) for v in (canvas.rgb, canvas.sky))
    larger = np.diag([width_now / size[0], height_now / size[1], 1.0])
    larger[:2, 2] = (larger[0, 0] - 1) / 2, (larger[1, 1] - 1) / 2
    return replace(
        canvas,
        rgb=np.asarray(rgb, np.float32),
        sky=np.asarray(sky, np.float32),
        to_shares=canvas.to_shares @ larger,
    )


def sharpened(canvas: Canvas, share: float, blur: float) -> Canvas:
    """A canvas (encoded) whose light is steeper over ``blur`` px; what is as faint as its grain stays, and no
    edge gets a rim of more than ``MOST_HALO``."""
    if share == 0:
        return canvas
    light = np.asarray(cv2.transform(canvas.rgb, np.array([[0.3, 0.59, 0.11]], np.float32)), np.float32)
    detail = light - cv2.GaussianBlur(light, (0, 0), blur)
    grain = 1.4826 * float(np.median(np.abs(detail[::3, ::3]))) + 1e-6
    sure = 1 - np.exp(-((detail / (4 * grain)) ** 2))
    added = np.clip(2 * share * detail * sure, -MOST_HALO, MOST_HALO).astype(np.float32)
    return replace(canvas, rgb=np.asarray(canvas.rgb + added[..., None], np.float32))


def export(
    stack: Path,
    recipe: RecipeParts,
    out: Path,
    how: Output = AS_IT_IS,
    info: PictureInfo | None = None,
    small: Path | None = None,
) -> Made:
    """Render a stack with a recipe into a picture of the kind that ``out`` names.

    ``small`` also gets a JPEG 900 px wide, in sRGB and without names. BadInput when names are asked for and
    no field is known, or into a linear picture.
    """
    kind = kind_of(out.name)
    field = read_field(stack)
    if how.names and kind.linear:
        raise BadInput(f"{out.name}: names are not drawn into linear pictures")
    if how.names and field is None:
        raise BadInput(f"{stack.name}: names cannot be drawn: its stars were not matched with the catalogue")
    scene = prepare(*read_stack(stack), field=field, night=read_about(stack).night)
    renderer = Renderer(scene)
    canvas = renderer.render(recipe)
    if small is not None:
        write_jpeg(small, to_8bit(reduced(canvas, SMALL_PX)), info, quality=88)
    if kind.linear:
        canvas = reduced(renderer.render(recipe, before=Curve), how.width)
    else:
        canvas = sharpened(reduced(canvas, how.width), how.sharpening, how.blur)
        if how.names and field is not None:
            canvas = with_names(canvas, field)
        canvas = replace(canvas, rgb=in_space(canvas.rgb, how.space))
    kind.write(out, canvas, replace(info or PictureInfo(), space=how.space, dpi=how.dpi))
    h, w = canvas.sky.shape
    return Made(w, h, (2.54 * w / how.dpi, 2.54 * h / how.dpi) if how.dpi else None)
