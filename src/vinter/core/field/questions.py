"""The test shot judged without a server: questions that one can answer on the phone's own screen.

For every path of answers the one next change is worked out at home, by the same rules as with the measures
of a frame (``check.advise``): an answer stands for such measures.
"""

from dataclasses import dataclass
from itertools import product

from vinter.core.camera.phones import Lens
from vinter.core.field.check import Advice, advise
from vinter.core.field.pointing import hands
from vinter.core.frames.measure import Measure

MANY_STARS, FEW_STARS = 300, 5
SHARP_PX, SOFT_PX = 2.8, 6.5  # FWHM of stars that look like points, and like discs
SHORT_LINE, LONG_LINE = 1.6, 3.5  # times the tolerance, that lines are long
SHAKEN = 3.0  # times what the sky alone would draw, that a zigzag is long


@dataclass(frozen=True)
class Answer:
    """One answer: its key, its words, and the name of the drawing beside it."""

    key: str
    words: str


@dataclass(frozen=True)
class Question:
    """A question with its answers, in the order of looking."""

    key: str
    words: str
    answers: tuple[Answer, ...]


# The sky's linear level that an answer about the histogram stands for, by its key
LEVELS = {"edge": 0.0008, "tenth": 0.012, "quarter": 0.055, "third": 0.11, "middle": 0.23, "right": 0.62}
QUESTIONS = (
    Question(
        "peak",
        "Where is the peak of the histogram?",
        (
            Answer("edge", "at the left edge"),
            Answer("tenth", "in the first sixth"),
            Answer("quarter", "about a quarter from the left"),
            Answer("third", "about a third from the left"),
            Answer("middle", "near the middle"),
            Answer("right", "in the right half"),
        ),
    ),
    Question(
        "stars", "How many stars are there?", (Answer("many", "many"), Answer("few", "none, or a handful"))
    ),
    Question(
        "shape",
        "At full size, what are they?",
        (
            Answer("points", "points"),
            Answer("discs", "soft discs"),
            Answer("short", "short lines, all one way"),
            Answer("long", "long lines, all one way"),
            Answer("crooked", "hooks or zigzags"),
        ),
    ),
    Question(
        "lit",
        "Is something blown out?",
        (Answer("no", "no, or a few stars"), Answer("yes", "a lamp, the Moon, a lit wall")),
    ),
    Question(
        "core",
        "Where is the target?",
        (
            Answer("there", "where it was planned"),
            Answer("left", "too far left"),
            Answer("right", "too far right"),
            Answer("up", "too high"),
            Answer("down", "too low"),
            Answer("gone", "not in the frame"),
        ),
    ),
)


def answered(
    lens: Lens, iso: int, shutter: float, drift_px_s: float, tolerance_px: float, path: tuple[str, ...]
) -> Advice:
    """The one next change for answers (peak, stars, shape, lit), as with the measures they stand for."""
    peak, stars, shape, lit = path
    sky = drift_px_s * shutter
    trail, wide, long = {
        "points": (min(sky * 0.5, 1.5), SHARP_PX, 1.1),
        "discs": (1.0, SOFT_PX, 1.1),
        "short": (SHORT_LINE * tolerance_px * 0.7, SHARP_PX + 0.6, 1.8),
        "long": (LONG_LINE * tolerance_px * 0.7, SHARP_PX + 1.0, 4.0),
        "crooked": (max(SHAKEN * sky, SHORT_LINE * tolerance_px), SHARP_PX + 1.0, 2.5),
    }[shape]
    m = Measure(
        file="",
        kind="",
        width=lens.width,
        height=lens.height,
        iso=iso,
        exposure_s=shutter,
        time=None,
        stars=MANY_STARS if stars == "many" else FEW_STARS,
        fwhm_px=wide,
        elongation=long,
        trail_px=trail,
        background=LEVELS[peak],
        noise=0.0,
        clipped_fraction=0.03 if lit == "yes" else 0.0,
        streaks=0,
        raw="unknown",
        raw_reasons=[],
    )
    one_way = trail / shutter if shape in ("short", "long") else 0.0  # then it is the sky that draws them
    return advise(m, lens, max(drift_px_s, one_way), tolerance_px)


def every_answer(
    lens: Lens, iso: int, shutter: float, drift_px_s: float, tolerance_px: float
) -> dict[str, tuple[str, str, bool]]:
    """For every path of answers but the last question's: sentence, change, and whether it is good as it
    is."""
    keys = [[a.key for a in q.answers] for q in QUESTIONS[:-1]]
    out = {}
    for path in product(*keys):
        advice = answered(lens, iso, shutter, drift_px_s, tolerance_px, path)
        out["-".join(path)] = (advice.sentence, advice.change, advice.good)
    return out


def moves(across: float, down: float) -> dict[str, str]:
    """How to turn the phone for each answer about the target, with hands; ``across`` and ``down`` are the
    frame's in degrees."""
    sideways, upright = hands(across / 4), hands(down / 4)
    return {
        "left": f"turn the phone left by {sideways}, a quarter of the frame",
        "right": f"turn the phone right by {sideways}, a quarter of the frame",
        "up": f"tilt the phone up by {upright}, a quarter of the frame",
        "down": f"tilt the phone down by {upright}, a quarter of the frame",
        "gone": "point again: compass and star are on the page Point",
        "there": "",
    }
