"""Colour: how much of it, the green of airglow, the purple of dark corners, the red of nebulae."""

from dataclasses import replace

import cv2
import numpy as np

from vinter.core.finish.canvas import Canvas
from vinter.core.finish.moves.base import Move, Part, Row, Shown, move, setting
from vinter.core.finish.scene import Scene

COLOUR = Row("Colour", 65)
GREY = np.array([[0.2126, 0.7152, 0.0722]], np.float32)


class Saturation(Part):
    """How much colour a zone has."""

    saturation: float = setting(0.0, Shown("colour", "%", COLOUR, risky=0.8), ge=-1, le=1.5)


class SkySaturation(Saturation):
    """The sky's, with the tones that small sensors and airglow bring."""

    green: float = setting(0.0, Shown("airglow's green taken out", "%", COLOUR), ge=0, le=1)
    purple: float = setting(0.0, Shown("purple taken out", "%", COLOUR), ge=0, le=1)
    red: float = setting(0.0, Shown("red of nebulae", "%", COLOUR), ge=-1, le=1.5)


@move("colour", place=64)
class Colour(Move):
    """Colour of sky and ground, encoded."""

    sky: SkySaturation = SkySaturation()
    ground: Saturation = Saturation()

    def apply(self, canvas: Canvas, scene: Scene) -> Canvas:
        """The canvas in other colours of the same light."""
        if self.sky == SkySaturation() and self.ground == Saturation():
            return canvas
        rgb = canvas.rgb
        red, green, blue = cv2.split(rgb)
        if self.sky.green or self.sky.purple:
            middle = cv2.addWeighted(red, 0.5, blue, 0.5, 0)
            over = cv2.subtract(green, middle)
            share = np.where(over > 0, np.float32(self.sky.green), np.float32(self.sky.purple))
            shift = over * share * canvas.sky
            # taken from green where green leads, from red and blue where they do; the light stays
            green = green - shift * np.float32(1 - GREY[0, 1])
            red, blue = red + shift * GREY[0, 1], blue + shift * GREY[0, 1]
        factor = (
            1
            + np.float32(self.ground.saturation)
            + canvas.sky * np.float32(self.sky.saturation - self.ground.saturation)
        )
        if self.sky.red:
            lead = np.clip((red - 1.08 * cv2.max(green, blue)) * 8, 0, 1) * canvas.sky
            factor = factor * (1 + np.float32(self.sky.red) * lead)
        grey = np.asarray(0.2126 * red + 0.7152 * green + 0.0722 * blue, np.float32)
        out = [np.asarray(grey + (c - grey) * factor, np.float32) for c in (red, green, blue)]
        return replace(canvas, rgb=np.asarray(cv2.merge(out), np.float32))
