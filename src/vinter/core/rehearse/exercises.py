"""The ladder of situations: each has one thing that goes wrong for those who do not look."""

from dataclasses import dataclass, field
from datetime import UTC, datetime

import numpy as np

from vinter.core.camera.phones import Lens, phone
from vinter.core.camera.projection import Pose
from vinter.core.errors import BadInput
from vinter.core.planning.shot import aim
from vinter.core.simulate.capture import Burst
from vinter.core.simulate.modes import PhoneSettings
from vinter.core.sky.ephemeris import year_of
from vinter.core.sky.site import Site
from vinter.core.sky.targets import CORE, position

SHORE = Site(
    lat=37.702, lon=-8.772, tz="Europe/Lisbon", elevation=6, zenith=21.5, extinction=0.25, name="Tide mill"
)
GARDEN = Site(
    lat=38.745,
    lon=-9.22,
    tz="Europe/Lisbon",
    elevation=90,
    zenith=18.6,
    extinction=0.30,
    name="Suburban garden",
)
MIST = Site(
    lat=37.702, lon=-8.772, tz="Europe/Lisbon", elevation=6, zenith=20.6, extinction=1.35, name="Tide mill"
)


@dataclass(frozen=True, kw_only=True)
class Exercise:
    """One situation: where and when, phone and lens, the settings it starts from, test shots allowed, and
    what passes.

    ``trail`` is the most px of trail allowed, ``width`` the widest star, ``brightest`` the linear
    level of the sky; a ``framing`` shot may be noisy. ``leave`` marks a night on which packing up is the
    right answer.
    """

    key: str
    title: str
    story: str
    site: Site
    unix: float
    phone: str
    lens: str
    start: PhoneSettings
    shots: int = 6
    trail: float = 5.0
    width: float = 4.0
    brightest: float = 0.14
    framing: bool = False
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
            site=self.site,
            lens=self.the_lens,
            start=self.unix,
            pose=self.pose,
            iso=100,
            shutter=1.0,
            count=1,
            seed=self.seed,
            traffic=False,
            model=phone(self.phone).name,
        )


def _at(text: str) -> float:
    return datetime.fromisoformat(text).replace(tzinfo=UTC).timestamp()


NIGHT = _at("2027-06-05T01:30")
LADDER = (
    Exercise(
        key="first",
        title="The first frame",
        story="A dark shore, the core in the south, the phone as it came out of your pocket.",
        site=SHORE,
        unix=NIGHT,
        phone="marlet-7",
        lens="main",
        start=PhoneSettings(iso=400, shutter=1.0, ticks=4, kelvin=5200),
        teaches="ISO and shutter together",
    ),
    Exercise(
        key="infinity",
        title="The end mark is not infinity",
        story="Everything is set, the slider pushed to its end mark.",
        site=SHORE,
        unix=NIGHT,
        phone="marlet-7",
        lens="main",
        start=PhoneSettings(iso=1600, shutter=10.0, ticks=0),
        shots=7,
        width=3.4,
        teaches="every phone has its own infinity",
    ),
    Exercise(
        key="finger",
        title="The finger on the glass",
        story="Same settings, but you press the button and the phone shoots at once.",
        site=SHORE,
        unix=NIGHT,
        phone="marlet-7",
        lens="main",
        start=PhoneSettings(iso=6400, shutter=2.0, ticks=4, delay=0.0),
        framing=True,
        shots=4,
        teaches="a delay of three seconds",
    ),
    Exercise(
        key="thirty",
        title="Thirty seconds because it allows it",
        story="The longest shutter on the dial looks like the most light.",
        site=SHORE,
        unix=NIGHT,
        phone="marlet-7",
        lens="main",
        start=PhoneSettings(iso=1600, shutter=30.0, ticks=4),
        shots=5,
        teaches="the shutter that keeps stars round",
    ),
    Exercise(
        key="ultra-wide",
        title="The ultra-wide trap",
        story="The wide lens gets all of the band in. It is slower and trails later.",
        site=SHORE,
        unix=NIGHT,
        phone="marlet-7",
        lens="ultra-wide",
        start=PhoneSettings(iso=800, shutter=6.0, ticks=0),
        shots=6,
        teaches="what a slow lens costs",
    ),
    Exercise(
        key="suburb",
        title="Suburb with half a Moon",
        story="The garden at home, the Moon half lit in the south-west.",
        site=GARDEN,
        unix=_at("2027-07-11T21:45"),
        phone="marlet-7",
        lens="main",
        start=PhoneSettings(iso=3200, shutter=10.0, ticks=4),
        shots=6,
        teaches="the glow sets the ISO, not the rule",
    ),
    Exercise(
        key="automatic",
        title="The automatic mode",
        story="You want frames for star trails; the phone is in its four-minute mode.",
        site=SHORE,
        unix=NIGHT,
        phone="marlet-7",
        lens="main",
        start=PhoneSettings(iso=1600, shutter=10.0, ticks=4, automatic=4.0, raw=False),
        shots=4,
        teaches="merged files cannot be taken apart",
    ),
    Exercise(
        key="mist",
        title="Mist off the water",
        story="Stars look soft. More ISO? More seconds? Focus?",
        site=MIST,
        unix=NIGHT,
        phone="marlet-7",
        lens="main",
        start=PhoneSettings(iso=1600, shutter=10.0, ticks=4),
        shots=5,
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
