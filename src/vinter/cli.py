"""The command line: the same core from the shell. JSON on standard output, exit 2 and one line on bad
input."""

import argparse
import os
import sys
from collections.abc import Callable, Sequence
from dataclasses import asdict
from pathlib import Path
from typing import TYPE_CHECKING, NoReturn

from vinter.command_values import print_json, read_day, read_magnitude, read_moment, read_number
from vinter.core.errors import BadInput
from vinter.home_commands import home_commands
from vinter.picture_commands import picture_commands
from vinter.sky_commands import lens_arguments, lens_of, sky_commands

if TYPE_CHECKING:
    from vinter.core.sky.horizon import Horizon


class _Parser(argparse.ArgumentParser):
    def error(self, message: str) -> NoReturn:
        raise BadInput(message)


def _horizon(path: Path | None) -> "Horizon | None":
    """The profile of a file; None for a flat horizon."""
    from vinter.core.formats.horizons import read_horizon
    from vinter.core.sky.horizon import Horizon

    if path is None:
        return None
    try:
        return Horizon(read_horizon(path.read_bytes(), path.name).all_or_nothing())
    except OSError as error:
        raise BadInput(f"{path}: {error.strerror}") from error


def _nights(a: argparse.Namespace) -> None:
    from vinter.core.formats import tables
    from vinter.core.sky.nights import nights
    from vinter.core.sky.site import Site
    from vinter.core.sky.targets import target
    from vinter.core.sky.thresholds import Thresholds
    from vinter.core.sky.verdict import judge

    site = Site(
        lat=a.lat,
        lon=a.lon,
        tz=a.tz,
        elevation=a.elevation,
        zenith=a.sky,
        extinction=a.extinction,
        horizon=_horizon(a.horizon),
    )
    limits = Thresholds(min_altitude=a.min_altitude, sun_below=a.sun_below)
    found = nights(site, a.first, a.last, limits, target(a.target))
    verdicts = [judge(site, n, limits) for n in found]
    if a.format == "csv":
        sys.stdout.write(tables.nights_csv(found, verdicts))
    elif a.format == "ics":
        sys.stdout.write(tables.nights_ics(site, found, verdicts, every_window=a.every_window))
    else:
        print_json(
            {
                "site": asdict(site),
                "target": a.target,
                "thresholds": asdict(limits),
                "nights": [tables.night_data(n, v) for n, v in zip(found, verdicts, strict=True)],
            }
        )


def _sky(a: argparse.Namespace) -> None:
    from vinter.core.sky.site import Site
    from vinter.core.sky.target_track import sky_at

    if not 0 <= a.alt <= 90:
        raise BadInput(f"altitude {a.alt:g} is not within 0 to 90 degrees: below the horizon there is no sky")
    site = Site(lat=a.lat, lon=a.lon, zenith=a.zenith, elevation=a.elevation, extinction=a.extinction)
    parts = sky_at(site, a.time, a.alt, a.az % 360).parts
    print_json(
        {
            "brightness": round(float(parts.brightness[0]), 4),
            "uncertainty": round(float(parts.uncertainty[0]), 2),
            "parts_nl": {
                n: round(float(getattr(parts, n)[0]), 4) for n in ("natural", "moon", "twilight", "towns")
            },
            "cost": {n: round(float(v[0]), 4) for n, v in parts.costs().items()},
        }
    )


def _glow(a: argparse.Namespace) -> None:
    from vinter.core.sky.glow import glow
    from vinter.core.sky.site import Site

    site = Site(lat=a.lat, lon=a.lon)
    found = glow(site.lat, site.lon)
    print_json(
        {
            "zenith": round(found.zenith, 3),
            "uncertainty": round(found.uncertainty, 2),
            "class": list(found.class_range),
            "towns": [asdict(t) for t in found.towns],
        }
    )


def _exposure(a: argparse.Namespace) -> None:
    from vinter.core.camera.exposure import expose
    from vinter.core.camera.shutter import USES

    lens = lens_of(a)
    tolerance = USES["screen"].tolerance_px if a.tolerance_px is None else a.tolerance_px
    found = expose(lens, a.declination, a.sky, tolerance, a.frames)
    print_json({**asdict(found), "reasons": [*found.reasons, *found.stack_reasons]})


def _simulate(a: argparse.Namespace) -> None:
    import numpy as np

    from vinter.core.camera.exposure import expose
    from vinter.core.camera.phones import phone
    from vinter.core.camera.projection import Pose
    from vinter.core.planning.shot import aim
    from vinter.core.simulate.capture import Burst, faults_from
    from vinter.core.simulate.scenes import SCENES
    from vinter.core.simulate.shooting import shoot
    from vinter.core.sky.ephemeris import GALACTIC_CENTRE, year_of
    from vinter.core.sky.site import Site
    from vinter.core.sky.sun_safety import check_sun
    from vinter.core.sky.target_track import track

    if not 1 <= a.n <= 1000:
        raise BadInput(f"n {a.n} is not within 1 to 1000")
    if a.scene and a.scene not in SCENES:
        raise BadInput(f"scene {a.scene!r} is not one of {', '.join(SCENES)}")
    site = Site(lat=a.lat, lon=a.lon, tz=a.tz, elevation=a.elevation, zenith=a.sky, extinction=a.extinction)
    maker = phone(a.phone)
    lens = maker.lens(a.lens)
    core = track(site, year_of(a.time), np.array([a.time]))
    pose = aim(lens, a.portrait, float(core.alt[0]), float(core.az[0]))
    azimuth = pose.azimuth if a.azimuth is None else a.azimuth
    altitude = pose.altitude if a.altitude is None else a.altitude
    check_sun(site, a.time, [(altitude, azimuth)])
    advice = expose(lens, GALACTIC_CENTRE[1], float(core.parts.brightness[0]))
    shutter = a.shutter or advice.shutter.chosen
    burst = Burst(
        site=site,
        lens=lens,
        start=a.time,
        pose=Pose(azimuth, altitude, a.roll),
        iso=a.iso or advice.iso.chosen,
        shutter=shutter,
        count=a.n,
        gap=a.gap,
        portrait=a.portrait,
        seed=a.seed,
        model=maker.name,
        compress=not a.uncompressed,
        scene=a.scene,
        faults=tuple(faults_from(a.fault)),
    )
    paths = shoot(burst, a.out, lambda done, n: print(f"frame {done} of {n}", file=sys.stderr))
    print_json(
        {"frames": [p.name for p in paths], "truth": "truth.json", "iso": burst.iso, "shutter": shutter}
    )


def _place_options(p: argparse.ArgumentParser, required: bool = True) -> None:
    p.add_argument("--lat", type=read_number, required=required)
    p.add_argument("--lon", type=read_number, required=required)
    p.add_argument("--elevation", type=read_number, default=0.0, metavar="M")
    p.add_argument("--extinction", type=read_number, default=0.25, metavar="K")


def _planning_commands(add: Callable[..., argparse.ArgumentParser]) -> None:
    p = add(
        "nights",
        _nights,
        "nights of a site with windows, reasons and a score: per cent of the best night of the year there",
    )
    _place_options(p)
    p.add_argument("--tz", required=True, metavar="ZONE")
    p.add_argument("--from", dest="first", type=read_day, required=True, metavar="D")
    p.add_argument("--to", dest="last", type=read_day, required=True, metavar="D")
    p.add_argument("--sky", type=read_magnitude, default=None, metavar="MAG|auto")
    p.add_argument(
        "--target",
        default="core",
        metavar="KEY",
        help="core, arch, band:80, at:83.8,-5.4, moon, jupiter, pole, lmc, con:ori, ...",
    )
    p.add_argument(
        "--horizon", type=Path, metavar="CSV", help="azimuth,altitude lines: what the ground hides"
    )
    p.add_argument("--min-altitude", type=read_number, default=10.0)
    p.add_argument("--sun-below", type=read_number, default=-18.0)
    p.add_argument("--format", choices=["json", "csv", "ics"], default="json")
    p.add_argument(
        "--every-window", action="store_true", help="a calendar of every window, not only good ones"
    )
    p = add("sky", _sky, "brightness of the sky in one direction")
    _place_options(p)
    p.add_argument("--time", type=read_moment, required=True, metavar="T")
    p.add_argument("--alt", type=read_number, required=True)
    p.add_argument("--az", type=read_number, required=True)
    p.add_argument("--zenith", type=read_magnitude, default=None, metavar="MAG|auto")
    p = add("glow", _glow, "glow of towns over a place")
    p.add_argument("--lat", type=read_number, required=True)
    p.add_argument("--lon", type=read_number, required=True)
    p = add("exposure", _exposure, "shutter, ISO and frames for a lens")
    lens_arguments(p)
    for name in ("declination", "sky"):
        p.add_argument(f"--{name}", type=read_number, required=True)
    p.add_argument("--tolerance-px", type=read_number)
    p.add_argument("--frames", type=int)


def _simulate_command(add: Callable[..., argparse.ArgumentParser]) -> None:
    p = add("simulate", _simulate, "frames of the simulated phone, with the truth")
    _place_options(p, required=False)
    p.set_defaults(lat=37.7, lon=-8.78)
    p.add_argument("--out", type=Path, required=True, metavar="DIR")
    p.add_argument("--n", type=int, default=20)
    p.add_argument("--seed", type=int, default=1)
    p.add_argument("--phone", default="marlet-7")
    p.add_argument("--lens", default="main")
    p.add_argument("--iso", type=int)
    p.add_argument("--shutter", type=read_number)
    p.add_argument("--gap", type=read_number, default=1.0)
    p.add_argument("--time", type=read_moment, default=read_moment("2027-06-10T01:10:00Z"))
    p.add_argument("--tz", default="Europe/Lisbon")
    p.add_argument("--sky", type=read_magnitude, default=21.5, metavar="MAG|auto")
    p.add_argument("--azimuth", type=read_number)
    p.add_argument("--altitude", type=read_number)
    p.add_argument("--roll", type=read_number, default=0.0)
    p.add_argument("--portrait", action="store_true")
    p.add_argument("--scene", default="", metavar="mill|sheepfold|garden|ridge")
    p.add_argument("--fault", default="", metavar="KIND:FRAMES,…")
    p.add_argument("--uncompressed", action="store_true")


def parser() -> argparse.ArgumentParser:
    """The whole command line."""
    root = _Parser(
        prog="vinter", description="Plan, shoot, stack and finish Milky Way pictures taken with a phone."
    )
    commands = root.add_subparsers(dest="command", required=True, parser_class=_Parser)

    def add(name: str, run: Callable[[argparse.Namespace], None], text: str) -> argparse.ArgumentParser:
        made = commands.add_parser(name, help=text, description=text, allow_abbrev=False)
        made.set_defaults(run=run)
        return made

    _planning_commands(add)
    sky_commands(add)
    picture_commands(add)
    _simulate_command(add)
    home_commands(add)
    return root


def main(argv: Sequence[str] | None = None) -> int:
    """Run a command; 0 when it worked, 2 and one line on bad input."""
    cache = Path(os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache") / "vinter" / "kernels"
    os.environ.setdefault("NUMBA_CACHE_DIR", str(cache))  # where it was installed may not be written to
    try:
        a = parser().parse_args(argv)
        a.run(a)
    except BadInput as error:
        print(f"vinter: {' '.join(str(error).split())}", file=sys.stderr)
        return 2
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        return 1
    except KeyboardInterrupt:
        return 130
    return 0


if __name__ == "__main__":
    sys.exit(main())
