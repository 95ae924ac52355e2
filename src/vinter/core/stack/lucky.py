"""The sharpest share of many short frames: for the Moon, a planet, anything bright and small in trembling
air.

The disc is found in every frame, its sharpness measured, and the best share brought onto one another by their
own detail, first as a whole, then in fields that the air moves each by itself.
"""

from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.errors import BadInput
from vinter.core.frames.content import FILMS
from vinter.core.frames.decoding import decoded
from vinter.core.frames.film_reading import MOST_FRAMES, film_pictures, linear_picture
from vinter.core.frames.frame import Colour
from vinter.core.frames.measuring import clean
from vinter.core.frames.preview import linear_of
from vinter.core.parallel import Cancelled
from vinter.core.stack.file import About, write_stack
from vinter.core.stack.report import REPORT
from vinter.core.versions import Data

F32 = npt.NDArray[np.float32]
Array = npt.NDArray[np.float64]
LEAST_FRAMES = 5
SHARE = 0.3  # share of the frames that is kept unless the user says otherwise
LEAST_KEPT = 3
ROOM = 1.35  # times the disc's size, that is cut out about it
LEAST_DISC, MOST_SIDE = 12, 2400  # px of the disc, and of the side of what is cut out
FIELDS, FIELD_PX = 12, 48  # fields along a side at most, and their least size, px
MOST_SHIFT = 0.12  # share of a field's side that the air may move it by
FIRST_LOOK = 24  # frames that tell the disc's size


@dataclass(frozen=True, kw_only=True)
class Lucky:
    """The stacked picture (linear RGB), its colours, frames seen and kept with the sharpness of each seen one
    (the best 1), and how many times sharper it is than the median frame."""

    rgb: F32
    colour: Colour
    seen: int
    kept: list[int]
    sharpness: list[float]
    gain: float


def file_frame(path: Path) -> tuple[F32, Colour]:
    """A frame's file as linear RGB, 0 to 1, and its colours."""
    frame = decoded(path)
    return linear_of(clean(frame)[0], frame.pattern), frame.colour


def frames_of(files: list[Path]) -> Iterator[tuple[F32, Colour]]:
    """All pictures of files, films taken apart, one after the other."""
    for path in files:
        if path.suffix.lower() in FILMS:
            for picture in film_pictures(path):
                yield linear_picture(picture), Colour()
        else:
            yield file_frame(path)


def disc_of(rgb: F32) -> tuple[float, float, float] | None:
    """Centre and size (px) of the bright thing in a picture: what stands over half of its brightest; None
    where there is none."""
    green = np.asarray(cv2.GaussianBlur(np.ascontiguousarray(rgb[..., 1]), (0, 0), 1.5))
    dark = float(np.median(green))
    top = float(np.percentile(green, 99.95)) if green.size > 4e5 else float(green.max())
    over = (green > dark + 0.25 * (top - dark)).astype(np.uint8)
    count, _, stats, _ = cv2.connectedComponentsWithStats(over)
    if count < 2 or top - dark < 0.01:
        return None
    best = 1 + int(np.argmax(stats[1:, cv2.CC_STAT_AREA]))
    if stats[best, cv2.CC_STAT_AREA] > 0.6 * green.size:
        return None
    size = float(max(stats[best, cv2.CC_STAT_WIDTH], stats[best, cv2.CC_STAT_HEIGHT]))
    left, up = stats[best, cv2.CC_STAT_LEFT], stats[best, cv2.CC_STAT_TOP]
    # of a thin Moon the centre of its box, not of its light
    x = float(left) + (stats[best, cv2.CC_STAT_WIDTH] - 1) / 2
    y = float(up) + (stats[best, cv2.CC_STAT_HEIGHT] - 1) / 2
    return x, y, size


def cut_out(rgb: F32, x: float, y: float, side: int) -> F32:
    """A square about a place to whole px; beyond the picture its edge goes on."""
    half = side // 2
    left, up = round(x) - half, round(y) - half
    h, w = rgb.shape[:2]
    wide = cv2.copyMakeBorder(
        rgb[max(up, 0) : max(min(up + side, h), 0), max(left, 0) : max(min(left + side, w), 0)],
        max(-up, 0),
        max(up + side - h, 0),
        max(-left, 0),
        max(left + side - w, 0),
        cv2.BORDER_REPLICATE,
    )
    return np.asarray(wide, np.float32)


def sharpness(green: F32) -> float:
    """Strength of the detail of a few px against the picture's light; the noise of single px counts
    little."""
    calm = cv2.GaussianBlur(green, (0, 0), 1.2)
    detail = calm - cv2.GaussianBlur(green, (0, 0), 3.0)
    light = float(np.mean(np.maximum(calm - np.percentile(calm, 5), 0))) + 1e-6
    return float(np.sqrt(np.mean(detail**2)) / light)


def stack_lucky(
    frames: Callable[[], Iterator[tuple[F32, Colour]]],
    share: float = SHARE,
    progress: Callable[[str, float], None] = lambda label, done: None,
    stop: Callable[[], bool] = lambda: False,
) -> Lucky:
    """Stack the sharpest share of frames. ``frames`` gives them afresh each time it is called: once to judge,
    once to add.

    Raises:
        BadInput: with fewer than ``LEAST_FRAMES`` frames that show a disc.
        Cancelled: when ``stop`` turns true.
    """
    if not 0 < share <= 1:
        raise BadInput(f"a share of {share:g} is not within 0 to 1")
    places, marks, side, colour = judged(frames, progress, stop)
    if len(places) < LEAST_FRAMES:
        raise BadInput(
            f"{len(places)} frames show a bright disc; {LEAST_FRAMES} or more are needed, with the Moon or "
            "a planet in them"
        )
    order = sorted(places, key=lambda i: -marks[i])
    kept = sorted(order[: max(round(share * len(order)), LEAST_KEPT)])
    rgb, seen = _summed(
        frames, places, marks, kept, side, None, stop, lambda done: progress("laying on", 0.5 + 0.2 * done)
    )
    # against the mean of all, whose own bends have averaged out
    rgb, seen = _summed(
        frames, places, marks, kept, side, rgb, stop, lambda done: progress("adding", 0.7 + 0.3 * done)
    )
    top = max(marks.values())
    middling = float(np.median(list(marks.values())))
    return Lucky(
        rgb=rgb,
        colour=colour,
        seen=seen,
        kept=kept,
        sharpness=[round(marks.get(i, 0.0) / top, 3) for i in range(seen)],
        gain=sharpness(np.ascontiguousarray(rgb[..., 1])) / middling,
    )


def _summed(
    frames: Callable[[], Iterator[tuple[F32, Colour]]],
    places: dict[int, tuple[float, float]],
    marks: dict[int, float],
    kept: list[int],
    side: int,
    target: F32 | None,
    stop: Callable[[], bool],
    progress: Callable[[float], None],
) -> tuple[F32, int]:
    """Mean of the kept frames weighed by their sharpness, and the frames seen: as wholes on the first of
    them, or field by field on a target."""
    total = np.zeros((side, side, 3))
    weight, seen, chosen = 0.0, 0, set(kept)
    first: F32 | None = None
    for i, (rgb, _) in enumerate(_watched(frames, stop)):
        seen = i + 1
        if i not in chosen:
            continue
        part = cut_out(rgb, *places[i], side)
        first = part if first is None else first
        moved = onto(part, first, fields=False) if target is None else onto(part, target)
        share = marks[i] ** 2
        total += share * moved
        weight += share
        progress((kept.index(i) + 1) / len(kept))
    return np.asarray(total / weight, np.float32), seen


def _watched(
    frames: Callable[[], Iterator[tuple[F32, Colour]]], stop: Callable[[], bool]
) -> Iterator[tuple[F32, Colour]]:
    for n, one in enumerate(frames()):
        if stop():
            raise Cancelled
        if n >= MOST_FRAMES:
            return
        yield one


def judged(
    frames: Callable[[], Iterator[tuple[F32, Colour]]],
    progress: Callable[[str, float], None],
    stop: Callable[[], bool],
) -> tuple[dict[int, tuple[float, float]], dict[int, float], int, Colour]:
    """Centre and sharpness of the disc in each frame, the side of what is cut out, and the colours."""
    places: dict[int, tuple[float, float]] = {}
    marks: dict[int, float] = {}
    sizes: list[float] = []
    colour = Colour()
    for i, (rgb, own) in enumerate(_watched(frames, stop)):
        found = disc_of(rgb)
        if found is None or found[2] < LEAST_DISC:
            continue
        colour = own if not places else colour
        sizes.append(found[2])
        size = float(np.median(sizes[:FIRST_LOOK]))
        places[i] = found[0], found[1]
        part = cut_out(rgb, found[0], found[1], round(ROOM * size) // 2 * 2)
        marks[i] = sharpness(np.ascontiguousarray(part[..., 1]))
        progress("judging frames", 0.5 * (1 - 0.97 ** (i + 1)))
    side = min(round(ROOM * float(np.median(sizes))) // 2 * 2, MOST_SIDE) if sizes else 0
    return places, marks, side, colour


def onto(part: F32, target: F32, fields: bool = True) -> F32:
    """A part brought onto another: as a whole to a fraction of a px, then field by field where the air moved
    them apart."""
    here, there = (_detail(v) for v in (part, target))
    window = cv2.createHanningWindow(here.shape[::-1], cv2.CV_32F)
    (dx, dy), _ = cv2.phaseCorrelate(there, here, window)
    moved = _shifted(part, np.full(part.shape[:2], dx, np.float32), np.full(part.shape[:2], dy, np.float32))
    n = min(part.shape[0] // FIELD_PX, FIELDS)
    if n < 2 or not fields:
        return moved
    return _by_fields(moved, target, n)


def _detail(rgb: F32) -> F32:
    green = np.ascontiguousarray(rgb[..., 1])
    return np.asarray(cv2.GaussianBlur(green, (0, 0), 1.0) - cv2.GaussianBlur(green, (0, 0), 6.0), np.float32)


def _by_fields(moved: F32, target: F32, n: int) -> F32:
    """Shifts of fields by their detail, each in so far as it holds some, laid out smoothly."""
    here, there = _detail(moved), _detail(target)
    side = here.shape[0] / n
    half = int(side * 0.75)
    shifts, sure = np.zeros((n, n, 2), np.float32), np.zeros((n, n), np.float32)
    window = cv2.createHanningWindow((2 * half, 2 * half), cv2.CV_32F)
    level = float(there.std()) + 1e-9
    for row in range(n):
        for column in range(n):
            cy, cx = int((row + 0.5) * side), int((column + 0.5) * side)
            part = np.s_[max(cy - half, 0) : cy + half, max(cx - half, 0) : cx + half]
            a, b = there[part], here[part]
            if a.shape != (2 * half, 2 * half) or a.std() < 0.3 * level:
                continue
            (dx, dy), response = cv2.phaseCorrelate(a, b, window)
            if np.hypot(dx, dy) < MOST_SHIFT * side:
                shifts[row, column], sure[row, column] = (dx, dy), max(response, 0.0)
    soft = cv2.GaussianBlur(sure, (0, 0), 0.8) + 1e-3
    field = np.stack([cv2.GaussianBlur(shifts[..., k] * sure, (0, 0), 0.8) / soft for k in (0, 1)], axis=-1)
    size = moved.shape[1::-1]
    dx, dy = (
        cv2.resize(np.ascontiguousarray(field[..., k]), size, interpolation=cv2.INTER_CUBIC) for k in (0, 1)
    )
    return _shifted(moved, np.asarray(dx, np.float32), np.asarray(dy, np.float32))


def _shifted(rgb: F32, dx: F32, dy: F32) -> F32:
    y, x = np.mgrid[: rgb.shape[0], : rgb.shape[1]].astype(np.float32)
    return np.asarray(
        cv2.remap(rgb, x + dx, y + dy, cv2.INTER_CUBIC, borderMode=cv2.BORDER_REPLICATE), np.float32
    )


def write_lucky(made: Lucky, out: Path) -> None:
    """The stacked picture as a stack's file (float32 linear RGB TIFF), all of it sky for the finish."""
    write_stack(out, made.rgb, None, About(colour=made.colour, frames=len(made.kept)))


def stack_files(paths: list[Path], share: float, out: Path) -> Lucky:
    """The sharpest share of files' pictures, written as a stack; for a process of a pool.

    Raises:
        BadInput: as ``stack_lucky`` and the readers do.
    """
    made = stack_lucky(lambda: frames_of(paths), share)
    write_lucky(made, out)
    return made


def lucky_report(made: Lucky, names: list[str]) -> Data:
    """What happened, in the form of a stack's report; ``names`` are the files'."""
    return {
        "version": REPORT.version,
        "kind": "lucky",
        "reference": names[made.kept[0]] if len(names) == made.seen else names[0],
        "frames": [
            {"file": name, "used": i in set(made.kept), "sharpness": made.sharpness[i]}
            for i, name in enumerate(names)
        ]
        if len(names) == made.seen
        else [],
        "frames_used": len(made.kept),
        "noise_gain": None,
        "noise_expected": round(float(np.sqrt(len(made.kept))), 3),
        "lucky": {
            "seen": made.seen,
            "kept": len(made.kept),
            "gain": round(made.gain, 3),
            "sharpness": sorted(made.sharpness, reverse=True),
        },
        "field": None,
        "corners": None,
        "sky": None,
    }
