"""A finish at full size to a file, in one of the kinds there are."""

import tempfile
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from functools import lru_cache
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
from vinter.core.formats.icc import COLOUR_SPACES, SRGB, in_space, linear_in_space
from vinter.core.formats.pictures import (
    AVIF_QUALITY,
    HEIF_QUALITY,
    JPEG_QUALITY,
    PictureInfo,
    avif_of,
    heif_of,
    write_bytes,
    write_jpeg,
    write_linear_tiff,
    write_png16,
    write_tiff16,
)
from vinter.core.stack.file import read_about, read_field, read_stack

SMALL_PX = 900
NARROWEST, WIDEST = 16, 60000
LEAST_QUALITY, MOST_QUALITY = 50, 100
QUALITIES = (80, 90)  # beside the usual one, whose sizes are shown
MOST_ENLARGED = 4.0  # times; beyond it a picture only gets softer
LEAST_DPI, MOST_DPI = 72, 1200
SCREEN_BLUR, PRINT_BLUR_MM = 0.6, 0.09  # px, and mm on paper, over which a picture is sharpened
MOST_HALO = 0.06  # encoded level that sharpening adds at most


@dataclass(frozen=True)
class ExportKind:
    """A kind of finished picture: its name, the suffixes that ask for it, its content type, what writes it
    (file, canvas, what it says, quality), the quality it usually has (None: nothing is lost), and whether it
    holds linear light, from before the curve."""

    label: str
    suffixes: tuple[str, ...]
    content_type: str
    write: Callable[[Path, Canvas, PictureInfo, int], None]
    quality: int | None = None
    linear: bool = False


EXPORT_KINDS: dict[str, ExportKind] = {
    "jpg": ExportKind(
        "JPEG",
        (".jpg", ".jpeg"),
        "image/jpeg",
        lambda out, c, info, quality: write_jpeg(out, dithered_8bit(c), info, quality),
        JPEG_QUALITY,
    ),
    "heic": ExportKind(
        "HEIF, 10 bit",
        (".heic", ".heif"),
        "image/heic",
        lambda out, c, info, quality: write_bytes(out, heif_of(to_16bit(c), info, quality)),
        HEIF_QUALITY,
    ),
    "avif": ExportKind(
        "AVIF",
        (".avif",),
        "image/avif",
        lambda out, c, info, quality: write_bytes(out, avif_of(dithered_8bit(c), info, quality)),
        AVIF_QUALITY,
    ),
    "tif": ExportKind(
        "16-bit TIFF",
        (".tif", ".tiff"),
        "image/tiff",
        lambda out, c, info, quality: write_tiff16(out, to_16bit(c), info),
    ),
    "png": ExportKind(
        "16-bit PNG",
        (".png",),
        "image/png",
        lambda out, c, info, quality: write_png16(out, to_16bit(c), info),
    ),
    "linear": ExportKind(
        "linear TIFF, 32 bit",
        (".linear.tif",),
        "image/tiff",
        lambda out, c, info, quality: write_linear_tiff(out, c.rgb, info),
        linear=True,
    ),
}


@dataclass(frozen=True, kw_only=True)
class Output:
    """How a picture leaves: its width in px (None: as large as it is), whether it is enlarged to reach that,
    the colour space of its numbers, sharpening (0 to 1) for the size it will be seen at, the density (dpi) it
    is printed at (None: for a screen), whether the sky's lines, names and scale are drawn over it, its
    quality (50 to 100; None: what its kind usually has), and whether it says where it was taken.

    Raises:
        BadInput: for a width, density, sharpening, quality or colour space out of range.
    """

    width: int | None = None
    enlarge: bool = False
    space: str = SRGB
    sharpening: float = 0.0
    dpi: float | None = None
    names: bool = False
    quality: int | None = None
    place: bool = False

    def __post_init__(self) -> None:
        if self.width is not None and not NARROWEST <= self.width <= WIDEST:
            raise BadInput(f"width {self.width} is not within {NARROWEST} to {WIDEST} px")
        if self.space not in COLOUR_SPACES:
            raise BadInput(f"colours {self.space!r} are not one of {', '.join(COLOUR_SPACES)}")
        if not 0 <= self.sharpening <= 1:
            raise BadInput(f"sharpening {self.sharpening:g} is not a share from 0 to 1")
        if self.dpi is not None and not LEAST_DPI <= self.dpi <= MOST_DPI:
            raise BadInput(f"{self.dpi:g} dpi is not within {LEAST_DPI} to {MOST_DPI}")
        if self.quality is not None and not LEAST_QUALITY <= self.quality <= MOST_QUALITY:
            raise BadInput(f"quality {self.quality} is not within {LEAST_QUALITY} to {MOST_QUALITY}")

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


def sized(canvas: Canvas, width: int | None, enlarge: bool = False) -> Canvas:
    """A canvas of at most a width (px); of that width, up to four times as wide as it was, where it is to be
    enlarged."""
    height_now, width_now = canvas.sky.shape
    if width is None or width == width_now or (width > width_now and not enlarge):
        return canvas
    width = min(width, round(MOST_ENLARGED * width_now))
    size = (width, max(round(height_now * width / width_now), 1))
    how = cv2.INTER_AREA if width < width_now else cv2.INTER_LANCZOS4
    rgb = cv2.resize(canvas.rgb, size, interpolation=how)
    sky = cv2.resize(
        canvas.sky, size, interpolation=cv2.INTER_AREA if width < width_now else cv2.INTER_LINEAR
    )
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


def expected_bytes(parts: Sequence[Canvas], pixels: float, kind: ExportKind, quality: int) -> float:
    """About how large a file of so many pixels will be, by parts of the picture at full size (encoded)."""
    most = sum(_bytes_of(part, kind, quality) for part in parts)
    said = _blank_bytes(kind.suffixes[0], parts[0].sky.shape, quality)
    seen = sum(part.sky.size for part in parts)
    return said + (most - said * len(parts)) * pixels / seen


def _bytes_of(canvas: Canvas, kind: ExportKind, quality: int) -> int:
    """Bytes of a picture as a file of a kind."""
    with tempfile.TemporaryDirectory(prefix="vinter-size-") as folder:
        out = Path(folder) / "part"
        kind.write(out, canvas, PictureInfo(), quality)
        return out.stat().st_size


@lru_cache(maxsize=64)
def _blank_bytes(suffix: str, shape: tuple[int, int], quality: int) -> int:
    """Bytes of a black picture (height, width): profile and tags, which a picture of any size has once."""
    black = np.zeros((*shape, 3), np.float32)
    canvas = Canvas(rgb=black, sky=black[..., 0], to_shares=np.eye(3), background=np.zeros(3))
    return _bytes_of(canvas, kind_of(f"blank{suffix}"), quality)


def expected_sizes(
    parts: Sequence[Canvas], size: tuple[int, int], kind: ExportKind
) -> list[tuple[int, float]]:
    """Qualities beside the usual one of a kind, best first, with about how many bytes a picture of a size in
    px takes at each; one entry for a kind without qualities."""
    steps = sorted({*QUALITIES, kind.quality}, reverse=True) if kind.quality else [MOST_QUALITY]
    return [(quality, expected_bytes(parts, size[0] * size[1], kind, quality)) for quality in steps]


def export(
    stack: Path,
    recipe: RecipeParts,
    out: Path,
    how: Output = AS_IT_IS,
    info: PictureInfo | None = None,
    small: Path | None = None,
) -> Made:
    """Render a stack with a recipe into a picture of the kind that ``out`` names.

    ``small`` also gets a JPEG 900 px wide, in sRGB and without names. How the picture was taken is what
    ``info`` says and, where that is silent, the stack's file. BadInput when names are asked for and no field
    is known, or into a linear picture.
    """
    kind = kind_of(out.name)
    field = read_field(stack)
    if how.names and kind.linear:
        raise BadInput(f"{out.name}: names are not drawn into linear pictures")
    if how.names and field is None:
        raise BadInput(f"{stack.name}: names cannot be drawn: its stars were not matched with the catalogue")
    about, info = read_about(stack), info or PictureInfo()
    info = replace(
        info,
        taken=info.taken.completed(about.taken),
        title=info.title or (f"{about.frames} frames stacked" if about.frames > 1 else ""),
        recipe=recipe.model_dump_json(),
    )
    scene = prepare(*read_stack(stack), field=field, night=about.night, moonlit=about.moonlit)
    renderer = Renderer(scene)
    canvas = renderer.render(recipe)
    if small is not None:
        write_jpeg(small, to_8bit(sized(canvas, SMALL_PX)), info, quality=88)
    if kind.linear:
        canvas = sized(renderer.render(recipe, before=Curve), how.width, how.enlarge)
        canvas = replace(canvas, rgb=linear_in_space(canvas.rgb, how.space))
    else:
        canvas = sharpened(sized(canvas, how.width, how.enlarge), how.sharpening, how.blur)
        if how.names and field is not None:
            canvas = with_names(canvas, field)
        canvas = replace(canvas, rgb=in_space(canvas.rgb, how.space))
    info = replace(info, space=how.space, dpi=how.dpi, place=how.place)
    kind.write(out, canvas, info, how.quality or kind.quality or MOST_QUALITY)
    h, w = canvas.sky.shape
    return Made(w, h, (2.54 * w / how.dpi, 2.54 * h / how.dpi) if how.dpi else None)
