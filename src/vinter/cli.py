"""The command line: the same core from the shell. JSON on standard output, exit 2 and one line on bad
input."""

import argparse
import json
import math
import os
import sys
from collections.abc import Callable, Sequence
from dataclasses import asdict
from datetime import UTC, date, datetime
from pathlib import Path
from typing import Any

from vinter.core.errors import BadInput
from vinter.core.finite import finite
from vinter.core.stack.combining.methods import KAPPA, Method
from vinter.core.stack.settings import LAMPS
from vinter.home_commands import home_commands


class _Parser(argparse.ArgumentParser):
    def error(self, message: str) -> Any:
        raise BadInput(message)


def _day(text: str) -> date:
    try:
        return date.fromisoformat(text)
    except ValueError as error:
        raise argparse.ArgumentTypeError(f"{text!r} is not a date like 2027-06-09") from error


def _moment(text: str) -> float:
    try:
        moment = datetime.fromisoformat(text.replace("Z", "+00:00"))
    except ValueError as error:
        raise argparse.ArgumentTypeError(f"{text!r} is not a time like 2027-06-10T01:12:00Z") from error
    return (moment if moment.tzinfo else moment.replace(tzinfo=UTC)).timestamp()


def _number(text: str) -> float:
    try:
        value = float(text)
    except ValueError as error:
        raise argparse.ArgumentTypeError(f"{text!r} is not a number") from error
    if not math.isfinite(value):
        raise argparse.ArgumentTypeError(f"{text!r} is not a finite number")
    return value


def _magnitude(text: str) -> float | None:
    return None if text == "auto" else _number(text)


def _print(data: object) -> None:
    print(json.dumps(finite(data), indent=1, allow_nan=False))


def _horizon(path: Path | None) -> Any:
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
        _print(
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
    _print(
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
    _print(
        {
            "zenith": round(found.zenith, 3),
            "uncertainty": round(found.uncertainty, 2),
            "class": list(found.class_range),
            "towns": [asdict(t) for t in found.towns],
        }
    )


def _exposure(a: argparse.Namespace) -> None:
    from vinter.core.camera.exposure import expose
    from vinter.core.camera.phones import Lens
    from vinter.core.camera.shutter import USES

    lens = Lens(
        name="lens",
        focal=a.focal,
        f35=a.f35,
        aperture=a.aperture,
        pitch=a.pitch,
        width=a.width,
        height=a.height,
        iso_min=a.iso_min,
        iso_max=a.iso_max,
        shutter_max=a.shutter_max,
    )
    tolerance = USES["screen"].tolerance_px if a.tolerance_px is None else a.tolerance_px
    found = expose(lens, a.declination, a.sky, tolerance, a.frames)
    _print({**asdict(found), "reasons": [*found.reasons, *found.stack_reasons]})


def _inspect(a: argparse.Namespace) -> None:
    from vinter.core.frames.decoding import decoded
    from vinter.core.frames.measure import compare, measure
    from vinter.core.frames.reading import frame_files, named

    rows, broken = [], []
    named_or_found = [
        f for p in a.files for f in (frame_files([p], least=0, outputs=True) if p.is_dir() else [p])
    ]
    if not named_or_found:
        raise BadInput("no frames: " + ", ".join(map(str, a.files)))
    for path in named_or_found:
        try:
            frame = decoded(path)
            with named(path.name):
                rows.append(measure(frame))
        except BadInput as error:
            broken.append(
                {
                    "file": path.name,
                    "kind": "unreadable",
                    "verdict": "drop",
                    "reasons": [str(error)],
                    "error": str(error),
                }
            )
    _print([asdict(m) for m in compare(rows)] + broken)
    if not rows:
        raise BadInput(f"none of the files could be read: {broken[0]['error']}")


def _doctor(a: argparse.Namespace) -> None:
    from vinter.core.frames.doctor import examine_file

    for path in a.files:
        if not path.is_file():
            raise BadInput(f"{path}: no such file")
        print(path.name)
        for finding in examine_file(path):
            print(f"  {'+' if finding.understood else '-'} {finding.topic}: {finding.words}")


def _files_of(folder: Path | None) -> tuple[Path, ...]:
    from vinter.core.frames.reading import frame_files

    return tuple(frame_files([folder])) if folder else ()


def _stack(a: argparse.Namespace) -> None:
    from vinter.core.stack.pipeline import Settings, stack

    settings = Settings(
        method=Method(a.method),
        kappa=a.kappa,
        ground=a.ground,
        reference=a.reference,
        workers=a.workers,
        darks=_files_of(a.darks),
        flats=_files_of(a.flats),
        bias=_files_of(a.bias),
        mask=a.mask,
        gaps=a.gaps,
        tail=a.tail,
        match=a.match,
        lens=a.lens,
        lamp=a.lamp,
        ground_frames=_files_of(a.ground_frames),
    )
    if not a.out.parent.is_dir():
        raise BadInput(f"{a.out.parent}: no such folder")
    last = [""]

    def progress(label: str, share: float) -> None:
        if sys.stderr.isatty() or label != last[0]:
            print(f"{100 * share:3.0f} % {label}", file=sys.stderr)
            last[0] = label

    result = stack(a.files, a.out, settings, progress=progress, keep=a.keep)
    text = json.dumps(result.report, indent=1)
    if a.report:
        a.report.write_text(text)
    else:
        print(text)


def _lucky(a: argparse.Namespace) -> None:
    from vinter.core.frames.reading import frame_files
    from vinter.core.stack.lucky import FILMS, frames_of, lucky_report, stack_lucky, write_lucky

    films = [p for p in a.files if p.suffix.lower() in FILMS and p.is_file()]
    files = films + (frame_files([p for p in a.files if p not in films]) if len(films) < len(a.files) else [])
    made = stack_lucky(lambda: frames_of(files), a.share)
    write_lucky(made, a.out)
    _print({"file": str(a.out), **lucky_report(made, [p.name for p in files])["lucky"]})


def _finish(a: argparse.Namespace) -> None:
    from vinter.core.finish.destinations import FOR_PRINT, FOR_SCREEN
    from vinter.core.finish.export import Output, export
    from vinter.core.finish.recipe import parse_recipe

    try:
        text = a.recipe.read_bytes()
    except OSError as error:
        raise BadInput(f"{a.recipe}: {error.strerror}") from error
    if not a.picture.is_file():
        raise BadInput(f"{a.picture}: no such file")
    sharpening = FOR_PRINT if a.dpi else FOR_SCREEN if a.sharpen else 0.0
    how = Output(width=a.width, space=a.colours, dpi=a.dpi, sharpening=sharpening, names=a.names)
    made = export(a.picture, parse_recipe(text, a.recipe.name), a.out, how)
    _print({"file": str(a.out), "width": made.width, "height": made.height})


def _simulate(a: argparse.Namespace) -> None:
    import numpy as np

    from vinter.core.camera.exposure import expose
    from vinter.core.camera.phones import phone
    from vinter.core.camera.projection import Pose
    from vinter.core.shot import aim
    from vinter.core.simulate.capture import Burst, faults_from
    from vinter.core.simulate.phone import shoot
    from vinter.core.simulate.scenes import SCENES
    from vinter.core.sky.ephemeris import GALACTIC_CENTRE, year_of
    from vinter.core.sky.site import Site
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
    _print({"frames": [p.name for p in paths], "truth": "truth.json", "iso": burst.iso, "shutter": shutter})


def _place_options(p: argparse.ArgumentParser, required: bool = True) -> None:
    p.add_argument("--lat", type=_number, required=required)
    p.add_argument("--lon", type=_number, required=required)
    p.add_argument("--elevation", type=_number, default=0.0, metavar="M")
    p.add_argument("--extinction", type=_number, default=0.25, metavar="K")


def _planning_commands(add: Callable[..., argparse.ArgumentParser]) -> None:
    p = add("nights", _nights, "nights of a site with windows, scores and reasons")
    _place_options(p)
    p.add_argument("--tz", required=True, metavar="ZONE")
    p.add_argument("--from", dest="first", type=_day, required=True, metavar="D")
    p.add_argument("--to", dest="last", type=_day, required=True, metavar="D")
    p.add_argument("--sky", type=_magnitude, default=None, metavar="MAG|auto")
    p.add_argument(
        "--target",
        default="core",
        metavar="KEY",
        help="core, arch, band:80, at:83.8,-5.4, moon, jupiter, pole, lmc, con:ori, ...",
    )
    p.add_argument(
        "--horizon", type=Path, metavar="CSV", help="azimuth,altitude lines: what the ground hides"
    )
    p.add_argument("--min-altitude", type=_number, default=10.0)
    p.add_argument("--sun-below", type=_number, default=-18.0)
    p.add_argument("--format", choices=["json", "csv", "ics"], default="json")
    p.add_argument(
        "--every-window", action="store_true", help="a calendar of every window, not only good ones"
    )
    p = add("sky", _sky, "brightness of the sky in one direction")
    _place_options(p)
    p.add_argument("--time", type=_moment, required=True, metavar="T")
    p.add_argument("--alt", type=_number, required=True)
    p.add_argument("--az", type=_number, required=True)
    p.add_argument("--zenith", type=_magnitude, default=None, metavar="MAG|auto")
    p = add("glow", _glow, "glow of towns over a place")
    p.add_argument("--lat", type=_number, required=True)
    p.add_argument("--lon", type=_number, required=True)
    p = add("exposure", _exposure, "shutter, ISO and frames for a lens")
    for name in ("f35", "focal", "aperture", "pitch", "declination", "sky", "shutter-max"):
        p.add_argument(f"--{name}", type=_number, required=True)
    for name in ("width", "height", "iso-min", "iso-max"):
        p.add_argument(f"--{name}", type=int, required=True)
    p.add_argument("--tolerance-px", type=_number)
    p.add_argument("--frames", type=int)


def _picture_commands(add: Callable[..., argparse.ArgumentParser]) -> None:
    p = add("doctor", _doctor, "say what is understood of files and what is not")
    p.add_argument("files", nargs="+", type=Path)
    p = add("inspect", _inspect, "measure frames")
    p.add_argument("files", nargs="+", type=Path)
    p.add_argument("--format", choices=["json"], default="json")
    p = add("stack", _stack, "stack frames into one linear picture")
    p.add_argument("files", nargs="+", type=Path)
    p.add_argument("-o", dest="out", type=Path, required=True, metavar="OUT.tif")
    p.add_argument("--method", choices=[m.value for m in Method], default=Method.CLIP.value)
    p.add_argument(
        "--kappa", type=_number, default=KAPPA, help="deviations beyond which a sample is left out"
    )
    p.add_argument("--ground", default="auto", metavar="auto|none|own|focus|FILE")
    p.add_argument(
        "--ground-frames",
        type=Path,
        metavar="DIR",
        help="the ground's own exposures, for --ground own or focus",
    )
    p.add_argument(
        "--match",
        choices=["auto", "off"],
        default="auto",
        help="bring the frames to one brightness and background",
    )
    p.add_argument(
        "--lens", choices=["auto", "off"], default="auto", help="apply the lens warp the files carry"
    )
    p.add_argument("--lamp", choices=LAMPS, default="out", help="ground lit by a lamp: out, only, all")
    p.add_argument(
        "--keep",
        type=Path,
        metavar="DIR",
        help="keep what is worked out, for the next stack of the same files",
    )
    for name in ("darks", "flats", "bias"):
        p.add_argument(f"--{name}", type=Path, metavar="DIR")
    p.add_argument("--reference", default="auto", metavar="auto|NAME")
    p.add_argument("--mask", type=Path, metavar="PNG", help="a sky mask of your own, 255 = sky")
    p.add_argument(
        "--gaps", choices=["close", "open"], default="close", help="pauses between frames of trails"
    )
    p.add_argument(
        "--tail",
        type=_number,
        default=0.0,
        metavar="SHARE",
        help="how much darker the oldest frame of trails is, 0 to 1",
    )
    p.add_argument("--workers", type=int, default=min(os.cpu_count() or 1, 8))
    p.add_argument("--report", type=Path, metavar="OUT.json")
    p = add("lucky", _lucky, "stack the sharpest share of frames, or of a film, of the Moon or a planet")
    p.add_argument("files", nargs="+", type=Path, help="frames, a folder of them, or films")
    p.add_argument("-o", dest="out", type=Path, required=True, metavar="OUT.tif")
    p.add_argument("--share", type=_number, default=0.3, help="of the frames that is kept, 0 to 1")
    p = add("finish", _finish, "render a stack with a recipe")
    p.add_argument("picture", type=Path, metavar="IN.tif")
    p.add_argument("--recipe", type=Path, required=True, metavar="R.json")
    p.add_argument("-o", dest="out", type=Path, required=True, help="jpg, png, tif or linear.tif")
    p.add_argument("--width", type=int, metavar="PX")
    p.add_argument("--colours", default="srgb", metavar="SPACE", help="srgb or display-p3")
    p.add_argument("--dpi", type=float, help="density of a print; the picture is sharpened for it")
    p.add_argument("--sharpen", action="store_true", help="sharpen for a screen")
    p.add_argument("--names", action="store_true", help="constellations, names and a scale over the sky")


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
    p.add_argument("--shutter", type=_number)
    p.add_argument("--gap", type=_number, default=1.0)
    p.add_argument("--time", type=_moment, default=_moment("2027-06-10T01:10:00Z"))
    p.add_argument("--tz", default="Europe/Lisbon")
    p.add_argument("--sky", type=_magnitude, default=21.5, metavar="MAG|auto")
    p.add_argument("--azimuth", type=_number)
    p.add_argument("--altitude", type=_number)
    p.add_argument("--roll", type=_number, default=0.0)
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
    _picture_commands(add)
    _simulate_command(add)
    home_commands(add)
    return root


def main(argv: Sequence[str] | None = None) -> int:
    """Run a command; 0 when it worked, 2 and one line on bad input."""
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
