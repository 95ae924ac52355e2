"""The commands that plan a picture and say where one points."""

import argparse
from collections.abc import Callable
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, Any

from vinter.command_values import print_json, read_magnitude, read_moment, read_number, read_zone
from vinter.core.errors import BadInput

if TYPE_CHECKING:
    from vinter.core.camera.phones import Lens
    from vinter.core.stack.single import Given

LENS_NUMBERS = ("f35", "focal", "aperture", "pitch", "shutter-max")
LENS_COUNTS = ("width", "height", "iso-min", "iso-max")


def lens_arguments(p: argparse.ArgumentParser) -> None:
    """The arguments that describe a lens: mm, micrometres, px, ISO, seconds."""
    for name in LENS_NUMBERS:
        p.add_argument(f"--{name}", type=read_number, required=True)
    for name in LENS_COUNTS:
        p.add_argument(f"--{name}", type=int, required=True)


def lens_of(a: argparse.Namespace) -> "Lens":
    """The lens that the arguments describe."""
    from vinter.core.camera.phones import Lens

    values = {
        name.replace("-", "_"): getattr(a, name.replace("-", "_")) for name in LENS_NUMBERS + LENS_COUNTS
    }
    return Lens(name="main", **values)


def given_of(a: argparse.Namespace) -> "Given":
    """What the arguments say of place, time and lens of a picture."""
    from vinter.core.stack.single import Given

    if (a.lat is None) != (a.lon is None):
        raise BadInput("--lat and --lon belong together")
    place = None if a.lat is None else (a.lat, a.lon)
    return Given(place=place, elevation=a.elevation, unix=a.time, zone=a.tz or "", f35=a.f35)


def _solve(a: argparse.Namespace) -> None:
    from vinter.core.stack.single import solve_picture

    if not a.picture.is_file():
        raise BadInput(f"{a.picture}: no such file")
    print_json(solve_picture(a.picture, given_of(a)))


def _plan(a: argparse.Namespace) -> None:
    from vinter.core.camera.exposure import OwnSettings
    from vinter.core.camera.projection import Pose
    from vinter.core.field.card import checks
    from vinter.core.ground.magnetic import declination
    from vinter.core.ground.zones import zone_at
    from vinter.core.planning.modes.registry import mode_of
    from vinter.core.planning.picture import Wish, plan_picture
    from vinter.core.sky.site import Site
    from vinter.core.sky.targets import target

    site = Site(
        lat=a.lat,
        lon=a.lon,
        tz=a.tz or zone_at(a.lat, a.lon),
        elevation=a.elevation,
        zenith=a.sky,
        extinction=a.extinction,
    )
    lens, mode, what = lens_of(a), mode_of(a.mode), target(a.target)
    if (a.azimuth is None) != (a.altitude is None):
        raise BadInput("--azimuth and --altitude belong together")
    wish = Wish(
        site=site,
        unix=a.time,
        lens=lens,
        mode=mode.key,
        options=dict(_option(text) for text in a.option),
        target=what,
        use=a.use,
        portrait=a.portrait,
        pose=None if a.azimuth is None else Pose(a.azimuth % 360, a.altitude, a.roll),
        own=OwnSettings(iso=a.iso, shutter=a.shutter, frames=a.frames),
    )
    empty: dict[str, Any] = dict.fromkeys(("pose", "iso", "shutter", "frames", "minutes"))
    try:
        found = plan_picture(wish)
    except BadInput as error:
        print_json({"refused": str(error), **empty, "reasons": [], "cautions": [], "card": []})
        return
    plan, pose = found.mode_plan, found.plan.pose
    usual = found.plan.exposure
    north = declination(site.lat, site.lon, site.elevation, a.time)
    reasons = [*(usual.reasons if mode.of_a_frame else []), *(usual.stack_reasons if mode.of_a_stack else [])]
    print_json(
        {
            "refused": None,
            "pose": {**asdict(pose), "compass": round(north.compass(pose.azimuth), 2)},
            "declination": {"degrees": north.degrees, "error": north.error, "year": north.year},
            "iso": plan.iso,
            "shutter": plan.shutter,
            "frames": plan.frames,
            "minutes": plan.minutes,
            "reasons": [*reasons, *plan.reasons],
            "cautions": plan.cautions,
            "card": [
                list(row)
                for row in checks(
                    lens, plan.iso, plan.shutter, plan.frames, pose, plan.steps, None, plan.delay, north
                )
            ],
        }
    )


def _option(text: str) -> tuple[str, str]:
    key, sign, value = text.partition("=")
    if not sign:
        raise BadInput(f"option {text!r} is not KEY=VALUE")
    return key, value


def picture_place(p: argparse.ArgumentParser) -> None:
    """The arguments that say where, when and with which lens a picture was taken."""
    p.add_argument("--lat", type=read_number)
    p.add_argument("--lon", type=read_number)
    p.add_argument("--elevation", type=read_number, default=0.0, metavar="M")
    p.add_argument("--tz", type=read_zone, metavar="ZONE", help="of the camera's clock")
    p.add_argument("--f35", type=read_number, metavar="MM", help="35 mm equivalent focal length")


def sky_commands(add: Callable[..., argparse.ArgumentParser]) -> None:
    """Add them to the command line."""
    p = add("solve", _solve, "say where a picture points, from its stars")
    p.add_argument("picture", type=Path)
    picture_place(p)
    p.add_argument("--time", type=read_moment, metavar="T", help="when the exposure began")
    p = add("plan", _plan, "plan a picture: where to point, what to set, what to do")
    p.add_argument("--lat", type=read_number, required=True)
    p.add_argument("--lon", type=read_number, required=True)
    p.add_argument("--elevation", type=read_number, default=0.0, metavar="M")
    p.add_argument("--extinction", type=read_number, default=0.25, metavar="K")
    p.add_argument("--tz", type=read_zone, metavar="ZONE", help="for the times in sentences")
    p.add_argument("--time", type=read_moment, required=True, metavar="T")
    p.add_argument("--mode", required=True, help="stack, single, trails, moon, planet-jupiter, ...")
    p.add_argument("--target", default="core", metavar="NAME")
    p.add_argument("--sky", type=read_magnitude, default=None, metavar="MAG|auto")
    lens_arguments(p)
    p.add_argument("--use", default="screen", choices=["post", "screen", "print"])
    p.add_argument("--portrait", action="store_true")
    for name in ("azimuth", "altitude", "shutter"):
        p.add_argument(f"--{name}", type=read_number)
    p.add_argument("--roll", type=read_number, default=0.0)
    for name in ("iso", "frames"):
        p.add_argument(f"--{name}", type=int)
    p.add_argument("--option", action="append", default=[], metavar="KEY=VALUE", help="of the mode")
