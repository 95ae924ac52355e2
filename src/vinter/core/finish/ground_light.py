"""How bright the ground is, about each place of a scene."""

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.finish.scene import Scene

F32 = npt.NDArray[np.float32]
GROUND_PX, GROUND_OF = 12, 1600  # px between places where the ground's light is known, of so many across
DEEP = 0.02  # share of sky below which a place is all ground


def ground_light(scene: Scene) -> F32:
    """Light (rows, columns, 3) of the ground about places ``GROUND_PX`` apart, of what is all ground; 0 where
    there is none. Worked out once a scene."""
    if "ground_light" not in scene.__dict__:
        step = max(round(GROUND_PX * scene.size[0] / GROUND_OF), 4)
        size = tuple(max(n // step, 1) for n in scene.size)
        deep = (scene.sky < DEEP).astype(np.float32)
        light, share = (
            cv2.blur(cv2.resize(v, size, interpolation=cv2.INTER_AREA), (3, 3))
            for v in (scene.rgb * deep[..., None], deep)
        )
        scene.__dict__["ground_light"] = light / np.maximum(share, 1e-3)[..., None]
    return np.asarray(scene.__dict__["ground_light"], np.float32)
