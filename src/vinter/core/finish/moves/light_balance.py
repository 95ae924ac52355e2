"""White balance and brightness, sky and ground apart: from camera RGB to linear sRGB."""

from dataclasses import replace

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.finish.canvas import Canvas
from vinter.core.finish.moves.base import Move, Part, Row, Shown, move, setting
from vinter.core.finish.moves.black_point import FLOOR
from vinter.core.finish.moves.curve import CURVE
from vinter.core.finish.scene import Scene

Array = npt.NDArray[np.float64]
AS_SHOT_KELVIN = 5200.0
TARGET_SKY = 0.045  # linear level to which the sky's background is brought before the user's own changes
BALANCE = Row("Light balance", 20)
KELVIN = Shown("neutral light", "K", BALANCE, step=50)
CAST = Shown("green to magenta", "EV", BALANCE)
LOW_KELVIN, HIGH_KELVIN = 2500, 10000
LOW_EV, HIGH_EV = -4, 6


def planck_gains(kelvin: float) -> Array:
    """Gains (3,) that make light of a colour temperature neutral, relative to the as-shot 5200 K, green 1."""
    wave = np.array([600.0, 540.0, 460.0]) * 1e-9
    c2 = 1.4388e-2

    def light(t: float) -> Array:
        return np.asarray(1 / (np.exp(c2 / (wave * t)) - 1))

    ratio = light(AS_SHOT_KELVIN) / light(kelvin)
    return np.asarray(ratio / ratio[1])


class Light(Part):
    """The light of a zone: the colour temperature that comes out neutral (K), green (-) to magenta (+) in EV
    of the green channel, and brightness in EV."""

    kelvin: float = setting(AS_SHOT_KELVIN, KELVIN, ge=LOW_KELVIN, le=HIGH_KELVIN)
    cast: float = setting(0.0, CAST, ge=-0.5, le=0.5)
    brightness: float = setting(0.0, Shown("brightness", "EV", CURVE, step=0.05), ge=LOW_EV, le=HIGH_EV)


class GroundLight(Light):
    """The ground's, whose brightness stands beside the sky's black point."""

    brightness: float = setting(0.0, Shown("brightness", "EV", FLOOR, step=0.05), ge=LOW_EV, le=HIGH_EV)


@move("light_balance", place=40)
class LightBalance(Move):
    """White balance and brightness of sky and ground."""

    sky: Light = Light()
    ground: GroundLight = GroundLight()

    @staticmethod
    def matrix(light: Light, scene: Scene) -> Array:
        """Camera RGB to linear sRGB (3, 3) for a zone, with the base exposure."""
        gains = planck_gains(light.kelvin) / np.array(scene.colour.neutral)
        gains[1] *= 2.0**-light.cast
        base = TARGET_SKY / max(float(scene.background[1]), 1e-6)
        return np.asarray(np.array(scene.colour.matrix) @ np.diag(gains) * base * 2.0**light.brightness)

    def apply(self, canvas: Canvas, scene: Scene) -> Canvas:
        """The canvas in linear sRGB."""
        sky, ground = (
            np.asarray(cv2.transform(canvas.rgb, self.matrix(z, scene).astype(np.float32)), np.float32)
            for z in (self.sky, self.ground)
        )
        return replace(canvas, rgb=canvas.mixed(sky, ground))
