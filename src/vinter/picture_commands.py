"""The commands that work on frames and pictures: inspecting, stacking, finishing."""

import argparse
import json
import os
import sys
from collections.abc import Callable
from dataclasses import asdict
from pathlib import Path

from vinter.command_values import print_json, read_number
from vinter.core.errors import BadInput
from vinter.core.stack.options import OPTIONS, Option, Shown
from vinter.core.stack.pool import load_stacking_ahead
from vinter.sky_commands import given_of, picture_place


def _inspect(a: argparse.Namespace) -> None:
    from vinter.core.frames.decoding import decoded
    from vinter.core.frames.files import frame_files
    from vinter.core.frames.judging import compare
    from vinter.core.frames.measuring import measure
    from vinter.core.frames.reading import named

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
    print_json([asdict(m) for m in compare(rows)] + broken)
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
    from vinter.core.frames.files import frame_files

    return tuple(frame_files([folder])) if folder else ()


def _stack(a: argparse.Namespace) -> None:
    load_stacking_ahead()
    from vinter.core.finite import finite
    from vinter.core.stack.examination import examine
    from vinter.core.stack.pipeline import Settings, stack
    from vinter.core.stack.single import circumstances_of

    settings = Settings(
        **{name: getattr(a, name) for name in OPTIONS if name != "share"},
        ground=a.ground,
        reference=a.reference,
        workers=a.workers,
        darks=_files_of(a.darks),
        flats=_files_of(a.flats),
        bias=_files_of(a.bias),
        mask=a.mask,
        ground_frames=_files_of(a.ground_frames),
    )
    if not a.out.parent.is_dir():
        raise BadInput(f"{a.out.parent}: no such folder")
    last = [""]

    def progress(label: str, share: float) -> None:
        if sys.stderr.isatty() or label != last[0]:
            print(f"{100 * share:3.0f} % {label}", file=sys.stderr)
            last[0] = label

    given = given_of(a)
    result = stack(a.files, a.out, settings, progress=progress, keep=a.keep)
    report = result.report
    if settings.method.points:
        progress("finding the field", 0.97)
        report |= examine(
            result.picture,
            circumstances_of(report, given),
            a.corners,
        )
    text = json.dumps(finite(report), indent=1, allow_nan=False)
    if a.report:
        a.report.write_text(text)
    else:
        print(text)


def _lucky(a: argparse.Namespace) -> None:
    from vinter.core.frames.content import FILMS
    from vinter.core.frames.files import frame_files
    from vinter.core.stack.lucky import frames_of, lucky_report, stack_lucky, write_lucky

    films = [p for p in a.files if p.suffix.lower() in FILMS and p.is_file()]
    files = films + (frame_files([p for p in a.files if p not in films]) if len(films) < len(a.files) else [])
    made = stack_lucky(lambda: frames_of(files), a.share)
    write_lucky(made, a.out)
    print_json({"file": str(a.out), **lucky_report(made, [p.name for p in files])["lucky"]})


def _bracket(a: argparse.Namespace) -> None:
    load_stacking_ahead()
    from vinter.core.finite import finite
    from vinter.core.frames.files import frame_files
    from vinter.core.stack.bracket import bracket_of, stack_bracket
    from vinter.core.stack.settings import Settings

    if not a.out.parent.is_dir():
        raise BadInput(f"{a.out.parent}: no such folder")
    report = stack_bracket(bracket_of(frame_files(a.files)), a.out, Settings(workers=a.workers))
    kept = {name: report[name] for name in ("reference", "taken", "bracket")}
    print_json(finite({"file": str(a.out), **kept}))


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
    how = Output(
        width=a.width,
        enlarge=a.enlarge,
        space=a.colours,
        dpi=a.dpi,
        sharpening=sharpening,
        names=a.names,
        quality=a.quality,
        place=a.place,
    )
    made = export(a.picture, parse_recipe(text, a.recipe.name), a.out, how)
    print_json({"file": str(a.out), "width": made.width, "height": made.height})


def _add_option(p: argparse.ArgumentParser, option: Option) -> None:
    """An option of a stack as an argument."""
    if option.is_number:
        p.add_argument(
            f"--{option.name}", type=read_number, default=option.usual, metavar="NUMBER", help=option.help
        )
    else:
        p.add_argument(
            f"--{option.name}", choices=list(option.values), default=option.usual, help=option.help
        )


def picture_commands(add: Callable[..., argparse.ArgumentParser]) -> None:
    """Add them to the command line."""
    p = add("doctor", _doctor, "say what is understood of files and what is not")
    p.add_argument("files", nargs="+", type=Path)
    p = add("inspect", _inspect, "measure frames")
    p.add_argument("files", nargs="+", type=Path)
    p.add_argument("--format", choices=["json"], default="json")
    p = add("stack", _stack, "stack frames into one linear picture")
    p.add_argument("files", nargs="+", type=Path)
    p.add_argument("-o", dest="out", type=Path, required=True, metavar="OUT.tif")
    p.add_argument("--ground", default="auto", metavar="auto|none|own|focus|FILE")
    p.add_argument(
        "--ground-frames",
        type=Path,
        metavar="DIR",
        help="the ground's own exposures, for --ground own or focus",
    )
    for option in OPTIONS.values():
        if option.shown != Shown.LUCKY:
            _add_option(p, option)
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
    picture_place(p)
    p.set_defaults(time=None)
    p.add_argument("--workers", type=int, default=min(os.cpu_count() or 1, 8))
    p.add_argument("--report", type=Path, metavar="OUT.json")
    p = add("lucky", _lucky, "stack the sharpest share of frames, or of a film, of the Moon or a planet")
    p.add_argument("files", nargs="+", type=Path, help="frames, a folder of them, or films")
    p.add_argument("-o", dest="out", type=Path, required=True, metavar="OUT.tif")
    _add_option(p, OPTIONS["share"])
    p = add("bracket", _bracket, "merge three to nine exposures of one view into a picture of long range")
    p.add_argument("files", nargs="+", type=Path, help="the frames of a bracket, or a folder with one")
    p.add_argument("-o", dest="out", type=Path, required=True, metavar="OUT.tif")
    p.add_argument("--workers", type=int, default=min(os.cpu_count() or 1, 8))
    p = add("finish", _finish, "render a stack with a recipe")
    p.add_argument("picture", type=Path, metavar="IN.tif")
    p.add_argument("--recipe", type=Path, required=True, metavar="R.json")
    p.add_argument("-o", dest="out", type=Path, required=True, help="jpg, heic, avif, png, tif or linear.tif")
    p.add_argument("--width", type=int, metavar="PX")
    p.add_argument("--enlarge", action="store_true", help="reach the width though the picture is smaller")
    p.add_argument("--quality", type=int, metavar="N", help="50 to 100, of jpg, heic and avif")
    p.add_argument("--place", action="store_true", help="say in the file where the picture was taken")
    p.add_argument("--colours", default="srgb", metavar="SPACE", help="srgb or display-p3")
    p.add_argument("--dpi", type=float, help="density of a print; the picture is sharpened for it")
    p.add_argument("--sharpen", action="store_true", help="sharpen for a screen")
    p.add_argument("--names", action="store_true", help="constellations, names and a scale over the sky")
