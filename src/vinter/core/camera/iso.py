"""Which ISO: where the sky peak of the histogram falls, what read noise costs, and what the schools would
set."""

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np

from vinter.core.camera import photons
from vinter.core.camera.phones import LIGHT_SIGMA, Lens
from vinter.core.camera.shutter import Opinion

HUMP_LIMIT = 0.12  # share of full scale, linear: a brighter sky leaves stars and glow no headroom


NOISE_SLACK = 0.03  # relative noise above the best: an ISO this close is as good


@dataclass(frozen=True, kw_only=True)
class IsoChoice:
    """ISO chosen, level of the sky (0 to 1, linear and sRGB-encoded), noise in e, faintest clipped star."""

    chosen: int
    sky_level_linear: float
    sky_level_encoded: float
    sky_electrons: float
    read_noise: float
    read_noise_adds: float  # to the noise of sky and dark current, as a share of it
    clips_at: float
    schools: list[Opinion] = field(default_factory=list)
    light_sigma: float = LIGHT_SIGMA  # one standard deviation of the electrons, as a share
    level_range: tuple[float, float] = (0.0, 0.0)  # of the encoded level, one deviation either way


def iso_stops(lens: Lens) -> list[int]:
    """Whole stops of ISO from 50 up within the lens's range, with both ends of the range."""
    stops = [s for s in (50 * 2**i for i in range(12)) if lens.iso_min <= s <= lens.iso_top]
    return sorted({*stops, lens.iso_min, lens.iso_top})


def iso_for_level(lens: Lens, rate: float, seconds: float, level: float) -> float:
    """ISO at which the sky (e/s) reaches a linear level between 0 and 1."""
    return lens.full_well * lens.base_iso * level / (rate * seconds)


def _school_iso(lens: Lens, mag: float, rate: float, seconds: float) -> dict[str, float]:
    by_sky = 3200 if mag >= 21.3 else 1600 if mag >= 20.3 else 800
    wanted = {
        "never above 800": 800.0,
        "by sky: 3200 dark, 1600 rural, 800 suburban": by_sky,
        "all the phone has": lens.iso_top,
        "low ISO, lift the RAW": 100.0,
        "sky peak at a quarter of the histogram": iso_for_level(lens, rate, seconds, 0.05),
    }
    return {name: float(np.clip(iso, lens.iso_min, lens.iso_top)) for name, iso in wanted.items()}


@dataclass(frozen=True)
class IsoCosts:
    """What read noise costs at each ISO of a lens under a sky with its electrons in an exposure."""

    lens: Lens
    electrons: float
    seconds: float

    def level(self, iso: float) -> float:
        """Linear level of the sky, 0 to 1."""
        return min(self.electrons / self.lens.full_scale(iso), 1.0)

    @cached_property
    def allowed(self) -> list[int]:
        """Stops at which the sky leaves stars and glow their headroom; the lowest ISO when none does."""
        return [iso for iso in iso_stops(self.lens) if self.level(iso) <= HUMP_LIMIT] or [self.lens.iso_min]

    def excess(self, iso: float) -> float:
        """Noise over that of the best allowed stop, as a share of it."""
        return self._noise(iso) / self._best - 1

    @cached_property
    def _best(self) -> float:
        """Noise of the best allowed stop, electrons."""
        return min(self._noise(stop) for stop in self.allowed)

    def read_noise_adds(self, iso: float) -> float:
        """What read noise adds to the noise of sky and dark current, as a share of it."""
        alone = self.electrons + self.lens.dark_current * self.seconds
        return self._noise(iso) / float(np.sqrt(max(alone, 1e-9))) - 1

    @property
    def lowest(self) -> int:
        """The lowest allowed stop that is as good as the best."""
        return next(iso for iso in self.allowed if self.excess(iso) <= NOISE_SLACK)

    def _noise(self, iso: float) -> float:
        return photons.noise(self.lens, self.electrons, self.seconds, iso)


def choose_iso(
    lens: Lens, mag: float, seconds: float, trail_px: float = 0.0, own: int | None = None
) -> IsoChoice:
    """The lowest ISO whose noise is within 3 % of the best while the sky stays below 12 % linear, or one's
    own."""
    rate = photons.sky_rate(lens, mag)
    electrons = rate * seconds
    costs = IsoCosts(lens, electrons, seconds)
    level, excess = costs.level, costs.excess
    chosen = own or costs.lowest
    opinions = [
        Opinion(
            name,
            iso,
            excess(iso) <= NOISE_SLACK and level(iso) <= HUMP_LIMIT * 1.05,
            f"ISO {iso:.0f}: {100 * excess(iso):+.0f} % noise, sky peak at "
            f"{100 * photons.encoded(level(iso)):.0f} %",
        )
        for name, iso in _school_iso(lens, mag, rate, seconds).items()
    ]
    return IsoChoice(
        chosen=int(chosen),
        sky_level_linear=level(chosen),
        sky_level_encoded=photons.encoded(level(chosen)),
        sky_electrons=electrons,
        read_noise=lens.noise_at(chosen),
        read_noise_adds=costs.read_noise_adds(chosen),
        clips_at=photons.star_clipping(lens, seconds, chosen, trail_px=trail_px),
        schools=opinions,
        level_range=(
            photons.encoded(level(chosen) * (1 - LIGHT_SIGMA)),
            photons.encoded(min(level(chosen) * (1 + LIGHT_SIGMA), 1.0)),
        ),
    )
