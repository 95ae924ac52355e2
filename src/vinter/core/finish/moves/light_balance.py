"""White balance and brightness, sky and ground apart: from camera RGB to linear sRGB."""

from dataclasses import replace
from functools import lru_cache

import numpy as np
import numpy.typing as npt

from vinter.core.camera.illuminant import light_srgb
from vinter.core.finish.canvas import Canvas
from vinter.core.finish.linear_light import LinearLight
from vinter.core.finish.moves.base import DARK_AND_LIGHT, LinearMove, Part, Row, Shown, move, setting
from vinter.core.finish.scene import Scene
from vinter.core.frames.frame import Colour

Array = npt.NDArray[np.float64]
AS_SHOT_KELVIN = 5200.0
TARGET_SKY = 0.045  # linear level of the sky's background before the user's own changes
BALANCE = Row("White balance", 20)
KELVIN = Shown("neutral light", "K", BALANCE, step=50)
CAST = Shown("green to magenta", "EV", BALANCE)
LOW_KELVIN, HIGH_KELVIN = 2500, 10000
LOW_EV, HIGH_EV = -4, 6
MOST_CAST = 0.5


@lru_cache(maxsize=512)
def balance_gains(kelvin: float, colour: Colour) -> Array:
    """Gains (3,) on balanced camera RGB that make a grey in light of a temperature (K) neutral, green 1.

    Both lights, this one and that of the camera's own white, are taken through the camera's matrix.
    """
    to_camera = np.linalg.inv(np.array(colour.matrix))
    there, own = (np.maximum(to_camera @ light_srgb(k), 1e-3) for k in (kelvin, colour.kelvin))
    gains = own / there / (own[1] / there[1])
    gains.flags.writeable = False
    return np.asarray(gains)


def light_of(raw: Array, colour: Colour) -> tuple[float, float]:
    """Kelvin and cast (EV) at which camera colours (3,) come out neutral, within the sliders' bounds."""
    kelvins = np.arange(LOW_KELVIN, HIGH_KELVIN + 1, 10.0)
    balanced = raw / np.array(colour.neutral)
    shown = np.array(
        [np.array(colour.matrix) @ (balanced * balance_gains(float(k), colour)) for k in kelvins]
    )
    shown = np.maximum(shown, 1e-6)
    at = int(np.argmin(np.abs(np.log(shown[:, 0] / shown[:, 2]))))
    red, green, blue = shown[at]
    cast = float(np.log2(green / np.sqrt(red * blue)))
    return float(kelvins[at]), float(np.clip(cast, -MOST_CAST, MOST_CAST))


class Light(Part):
    """The light of a zone: the colour temperature that comes out neutral (K), green (-) to magenta (+) in EV
    of the green channel, and brightness in EV."""

    kelvin: float = setting(AS_SHOT_KELVIN, KELVIN, ge=LOW_KELVIN, le=HIGH_KELVIN)
    cast: float = setting(0.0, CAST, ge=-MOST_CAST, le=MOST_CAST)
    brightness: float = setting(
        0.0, Shown("brightness", "EV", DARK_AND_LIGHT, step=0.05), ge=LOW_EV, le=HIGH_EV
    )


class GroundLight(Light):
    """The ground's, whose brightness stands beside the sky's black point."""

    brightness: float = setting(
        0.0, Shown("brightness", "EV", DARK_AND_LIGHT, step=0.05), ge=LOW_EV, le=HIGH_EV
    )


@move("light_balance", place=40)
class LightBalance(LinearMove):
    """White balance and brightness of sky and ground."""

    sky: Light = Light()
    ground: GroundLight = GroundLight()

    @staticmethod
    def matrix(light: Light, scene: Scene) -> Array:
        """Camera RGB to linear sRGB (3, 3) for a zone, with the base exposure."""
        gains = balance_gains(light.kelvin, scene.colour) / np.array(scene.colour.neutral)
        base = TARGET_SKY / max(float(scene.background[1]), 1e-6) if scene.night else 1 / scene.full
        tint = np.diag([1.0, 2.0**-light.cast, 1.0])  # of the picture's own green, behind the matrix
        return np.asarray(
            tint @ np.array(scene.colour.matrix) @ np.diag(gains) * base * 2.0**light.brightness
        )

    def asked(self, light: LinearLight, canvas: Canvas, scene: Scene) -> tuple[LinearLight, Canvas]:
        """Linear sRGB."""
        sky, ground = (self.matrix(zone, scene).astype(np.float32) for zone in (self.sky, self.ground))
        return replace(light, matrices=(sky, ground)), canvas
