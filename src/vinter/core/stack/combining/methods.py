"""The ways to combine samples, once for command line, forms, settings and kernels."""

from dataclasses import dataclass
from enum import StrEnum


@dataclass(frozen=True)
class _About:
    label: str
    clips: bool = False  # leaves out what lies far off
    needs_noise: bool = False  # has to know how noisy a sample is
    points: bool = True  # stars become points, and frames together have less noise than one


class Method(StrEnum):
    """How the samples of a place become one."""

    CLIP = "clip"
    WEIGHTED = "weighted"
    MEAN = "mean"
    MEDIAN = "median"
    TRAILS = "trails"

    @property
    def label(self) -> str:
        """In words, to choose by."""
        return _ABOUT[self].label

    @property
    def clips(self) -> bool:
        """Whether samples that lie far off are left out."""
        return _ABOUT[self].clips

    @property
    def points(self) -> bool:
        """Whether stars become points: frames are aligned by them, and together have less noise than one."""
        return _ABOUT[self].points

    @property
    def of_ground(self) -> "Method":
        """How ground that stood still is combined beside a sky combined so."""
        return self if self.points else Method.MEAN

    @property
    def needs_noise(self) -> bool:
        """Whether it has to know how noisy a sample is."""
        return _ABOUT[self].needs_noise


_ABOUT = {
    Method.CLIP: _About("sigma clipping", clips=True, needs_noise=True),
    Method.WEIGHTED: _About("clipping, weighted by quality", clips=True, needs_noise=True),
    Method.MEAN: _About("mean"),
    Method.MEDIAN: _About("median", needs_noise=True),
    Method.TRAILS: _About("star trails", points=False),
}
KAPPA = 3.5  # standard deviations beyond which a sample is left out, unless the user says otherwise
