"""Fields of the simulated sky side by side, each as clean as a long stack, solved from a pose that is off."""

from dataclasses import replace
from datetime import UTC, datetime

import numpy as np

from vinter.core.camera.phones import Lens
from vinter.core.camera.projection import Pose
from vinter.core.frames.mosaic import PEDESTAL, SPAN, picture_half
from vinter.core.frames.preview import linear_of
from vinter.core.frames.stars import background, find_stars
from vinter.core.simulate.capture import Burst
from vinter.core.simulate.phone import SimulatedPhone
from vinter.core.sky.horizon import Horizon
from vinter.core.sky.site import Site
from vinter.core.stack.joining.panels import Panel
from vinter.core.stack.plate_solve import solve

HORIZON = Horizon(((0, 3), (120, 5), (160, 2), (175, 9), (182, 2), (215, 6), (300, 3)))
SITE = Site(lat=37.702, lon=-8.772, tz="Europe/Lisbon", zenith=21.5, horizon=HORIZON)
LENS = Lens(
    name="small",
    focal=2.8,
    f35=24,
    aperture=1.8,
    pitch=2.0,
    width=2016,
    height=1512,
    iso_min=50,
    iso_max=6400,
    shutter_max=30,
    distortion=-0.012,
    infinity_ticks=4,
)
START = datetime(2027, 6, 10, 0, 45, tzinfo=UTC).timestamp()
TURNS = ((150, 22, 0.0), (178, 23, 0.5), (206, 22, -0.4))


def picture(camera, rng):
    """Linear RGB of a frame whose noise is that of two hundred."""
    electrons = camera.electrons(0)
    electrons = electrons + rng.normal(0, 1, electrons.shape) * np.sqrt((electrons + 4) / 200)
    mosaic = np.clip(electrons * (SPAN / 1500.0) + PEDESTAL, 0, 65535).astype(np.uint16)
    return linear_of(mosaic, np.array([[0, 1], [1, 2]]))


def fields_of(turns=TURNS, lens=LENS, site=SITE):
    """Panels of turns (azimuth, altitude, roll), ten minutes apart."""
    out = []
    for i, (azimuth, altitude, roll) in enumerate(turns):
        burst = Burst(
            site=site,
            lens=lens,
            start=START + 600 * i,
            pose=Pose(azimuth, altitude, roll),
            iso=400,
            shutter=8.0,
            count=1,
            traffic=False,
        )
        camera = SimulatedPhone(burst)
        rgb = picture(camera, np.random.default_rng(i))
        plane = picture_half(np.clip(rgb * SPAN + PEDESTAL, 0, 65535).astype(np.uint16))
        stars = find_stars(plane, background(plane)).stars.xy
        rough = replace(camera.view, pose=Pose(azimuth + 2, altitude - 1, roll + 1))
        field = solve(stars, rough, site, burst.middle(0))
        assert field is not None
        out.append(
            Panel(name=f"field {i + 1}", rgb=rgb, sky=camera.ground.sky, field=field, unix=burst.middle(0))
        )
    return out
