"""The ladder of situations: each has one thing that goes wrong for those who do not look."""

from dataclasses import dataclass, field
from datetime import UTC, datetime

import numpy as np

from vinter.core.camera.phones import Lens, phone
from vinter.core.camera.projection import Pose
from vinter.core.errors import BadInput
from vinter.core.shot import aim
from vinter.core.simulate.modes import Settings
from vinter.core.simulate.phone import Burst
from vinter.core.sky.ephemeris import year_of
from vinter.core.sky.site import Site
from vinter.core.sky.targets import CORE, position

SHORE = Site(37.702, -8.772, "Europe/Lisbon", 6, 21.5, 0.25, "Tide mill")
GARDEN = Site(38.745, -9.22, "Europe/Lisbon", 90, 18.6, 0.30, "Suburban garden")
MIST = Site(37.702, -8.772, "Europe/Lisbon", 6, 20.6, 1.35, "Tide mill")


@dataclass(frozen=True)
class Exercise:
    """One situation: where and when, phone and lens, the settings it starts from, test shots allowed, and what passes.

    ``trail`` is the most px of trail allowed, ``width`` the widest star, ``darkest`` and ``brightest`` the linear level of
    the sky. ``leave`` marks a night on which packing up is the right answer.
    """

    key: str
    title: str
    story: str
    site: Site
    unix: float
    phone: str
    lens: str
    start: Settings
    shots: int = 6
    trail: float = 5.0
    width: float = 4.0
    darkest: float = 0.010
    brightest: float = 0.14
    leave: bool = False
    seed: int = 7
    teaches: str = field(default="")

    @property
    def the_lens(self) -> Lens:
        """The lens."""
        return phone(self.phone).lens(self.lens)

    @property
    def pose(self) -> Pose:
        """Pointed at the core with a strip of ground below."""
        alt, az = position(self.site, year_of(self.unix), np.array([self.unix]), CORE)
        return aim(self.the_lens, False, float(alt[0]), float(az[0]))

    def burst(self) -> Burst:
        """What the simulated phone stands in front of."""
        return Burst(
            self.site, self.the_lens, self.unix, self.pose, 100, 1.0, 1, seed=self.seed, traffic=False, model=phone(self.phone).name
        )


def _at(text: str) -> float:
    return datetime.fromisoformat(text).replace(tzinfo=UTC).timestamp()


NIGHT = _at("2027-06-05T01:30")
LADDER = (
    Exercise(
        "first",
        "The first frame",
        "A dark shore, the core in the south, the phone as it came out of your pocket.",
        SHORE,
        NIGHT,
        "marlet-7",
        "main",
        Settings(400, 1.0, 4, 5200),
        teaches="ISO and shutter together",
    ),
    Exercise(
        "infinity",
        "The end mark is not infinity",
        "Everything is set, the slider pushed to its end mark.",
        SHORE,
        NIGHT,
        "marlet-7",
        "main",
        Settings(1600, 10.0, 0),
        7,
        width=3.4,
        teaches="every phone has its own infinity",
    ),
    Exercise(
        "finger",
        "The finger on the glass",
        "Same settings, but you press the button and the phone shoots at once.",
        SHORE,
        NIGHT,
        "marlet-7",
        "main",
        Settings(6400, 2.0, 4, delay=0.0),
        4,
        teaches="a delay of three seconds",
    ),
    Exercise(
        "thirty",
        "Thirty seconds because it allows it",
        "The longest shutter on the dial looks like the most light.",
        SHORE,
        NIGHT,
        "marlet-7",
        "main",
        Settings(1600, 30.0, 4),
        5,
        teaches="the shutter that keeps stars round",
    ),
    Exercise(
        "ultra-wide",
        "The ultra-wide trap",
        "The wide lens gets all of the band in. It is slower and trails later.",
        SHORE,
        NIGHT,
        "marlet-7",
        "ultra-wide",
        Settings(800, 6.0, 0),
        6,
        darkest=0.010,
        teaches="what a slow lens costs",
    ),
    Exercise(
        "suburb",
        "Suburb with half a Moon",
        "The garden at home, the Moon half lit in the south-west.",
        GARDEN,
        _at("2027-07-11T21:45"),
        "marlet-7",
        "main",
        Settings(3200, 10.0, 4),
        6,
        teaches="the glow sets the ISO, not the rule",
    ),
    Exercise(
        "automatic",
        "The automatic mode",
        "You want frames for star trails; the phone is in its four-minute mode.",
        SHORE,
        NIGHT,
        "marlet-7",
        "main",
        Settings(1600, 10.0, 4, automatic=4.0, raw=False),
        4,
        teaches="merged files cannot be taken apart",
    ),
    Exercise(
        "mist",
        "Mist off the water",
        "Stars look soft. More ISO? More seconds? Focus?",
        MIST,
        NIGHT,
        "marlet-7",
        "main",
        Settings(1600, 10.0, 4),
        5,
        leave=True,
        teaches="some nights are over",
    ),
)


def exercise(key: str) -> Exercise:
    """An exercise by key; BadInput for one that does not exist."""
    for one in LADDER:
        if one.key == key:
            return one
    raise BadInput(f"exercise {key!r} does not exist; there are {', '.join(e.key for e in LADDER)}")
