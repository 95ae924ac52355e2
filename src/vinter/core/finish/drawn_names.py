"""Lines of the constellations, names and a scale drawn into a picture."""

from dataclasses import replace

import numpy as np
from PIL import Image, ImageDraw, ImageFont

from vinter.core.finish.canvas import Canvas
from vinter.core.finish.overlay import overlay, scale_of
from vinter.core.stack.plate_solve import Solution

LINE, WORDS = 0.38, 0.8  # how much of white
ACROSS = 1600  # px of width on which a line is 1 px and words 15 px
WORDS_PX, EDGE_PX = 15, 20


def with_names(canvas: Canvas, field: Solution) -> Canvas:
    """A canvas (encoded) with what of the sky's figures lies in it, over the sky only, and a bar of some
    degrees below."""
    h, w = canvas.sky.shape
    unit = max(w, h) / ACROSS
    found = overlay(field)
    font = ImageFont.load_default(max(round(WORDS_PX * unit), 8))
    lines, words = Image.new("L", (w, h)), Image.new("L", (w, h))
    pen, hand = ImageDraw.Draw(lines), ImageDraw.Draw(words)
    for x0, y0, x1, y1 in found.lines:
        ends = canvas.pixels(np.array([[x0, y0], [x1, y1]]))
        pen.line([tuple(p) for p in ends.tolist()], fill=255, width=max(round(unit), 1))
    for x, y, name in found.names:
        px, py = canvas.pixels(np.array([[x, y]]))[0]
        if 0 < px < w and 0 < py < h:
            hand.text((float(px), float(py)), name, fill=255, font=font, anchor="mm")
    bar = Image.new("L", (w, h))
    degrees, length = scale_of(canvas, field)
    edge = EDGE_PX * unit
    scale = ImageDraw.Draw(bar)
    scale.line([(edge, h - edge), (edge + length, h - edge)], fill=255, width=max(round(2 * unit), 1))
    scale.text((edge, h - edge - 4 * unit), f"{degrees:g}°", fill=255, font=font, anchor="ls")
    share = np.maximum(
        np.maximum(np.asarray(lines, np.float32) * LINE, np.asarray(words, np.float32) * WORDS) * canvas.sky,
        np.asarray(bar, np.float32) * WORDS,
    )
    share = (share / 255)[..., None]
    return replace(canvas, rgb=np.asarray(canvas.rgb * (1 - share) + share, np.float32))
