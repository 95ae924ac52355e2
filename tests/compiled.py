"""Prints, as JSON, every kernel that work compiles although all were compiled beforehand."""

import json
import sys
from dataclasses import replace
from pathlib import Path

from inline import Inline
from starfield import Field, make

from vinter.core import warm
from vinter.core.camera.phones import phone
from vinter.core.camera.projection import Pose
from vinter.core.finish.looks import LOOKS
from vinter.core.finish.render import Renderer, to_8bit
from vinter.core.finish.scene import scene_of
from vinter.core.simulate.capture import Burst
from vinter.core.simulate.shooting import shoot
from vinter.core.sky.site import Site
from vinter.core.stack.combining.methods import Method
from vinter.core.stack.pipeline import Settings, stack


def kernels():
    """Of every kernel of the application the types it is compiled for."""
    return {
        (value.py_func.__module__, value.py_func.__name__, str(types))
        for name, module in list(sys.modules.items())
        if name.startswith("vinter")
        for value in vars(module).values()
        if type(value).__name__ == "CPUDispatcher"
        for types in value.signatures
    }


def work(folder):
    """A burst of wide frames, several methods, a finish with every move of a look, and a simulated frame."""
    (folder / "sky").mkdir()
    make(folder / "sky", Field(count=3, width=1000, height=700, focal=800.0, stars=300, streak=1))
    frames = sorted((folder / "sky").glob("*.dng"))
    for method in (Method.CLIP, Method.MEDIAN, Method.TRAILS):
        stack(frames, folder / "stack.tif", Settings(method=method), Inline())
    stack(frames[:1], folder / "one.tif", Settings(), Inline())
    for name in ("stack", "one"):
        scene = scene_of(folder / f"{name}.tif", 1600)
        drawn = Renderer(scene)
        for _, recipe in LOOKS.values():
            to_8bit(drawn.render(recipe(scene)))
    lens = phone("marlet-7").lens("main")
    small = replace(lens, pitch=lens.pitch * 8, width=lens.width // 8, height=lens.height // 8)
    mill = Site(lat=37.702, lon=-8.772, tz="Europe/Lisbon", zenith=21.5)
    shot = Burst(
        site=mill, lens=small, start=1812588300.0, pose=Pose(180, 20), iso=1600, shutter=10.0, count=1,
        scene="mill",
    )  # fmt: skip
    shoot(shot, folder / "shot")


if __name__ == "__main__":
    warm.main()
    before = kernels()
    work(Path(sys.argv[1]))
    print(json.dumps(sorted(kernels() - before)))
