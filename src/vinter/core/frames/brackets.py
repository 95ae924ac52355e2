"""Exposure brackets in a folder: the same view several times in a row, each with another exposure."""

from collections.abc import Sequence
from itertools import pairwise

import numpy as np

from vinter.core.frames.measure import Measure

FEWEST, MOST = 3, 9  # frames of a bracket
STEP_EV = 0.6  # EV by which every two frames of a bracket differ at least
GAP_S = 30.0  # s between the end of one exposure and the start of the next, at most


def light_of_settings(m: Measure) -> float | None:
    """Exposure (s) times ISO over 100; None where the file does not say."""
    return m.exposure_s * (m.iso or 100) / 100 if m.exposure_s else None


def find_brackets(measures: Sequence[Measure]) -> list[list[int]]:
    """Numbers of the frames of each bracket, in order of time: three to nine of one camera and lens, close
    after each other, no two with the same light. A burst of equal frames holds none."""
    order = sorted(range(len(measures)), key=lambda i: (measures[i].time or 0.0, measures[i].file))
    found: list[list[int]] = []
    run: list[int] = []
    for i in order:
        if run and not _goes_on(measures, run, i):
            found.append(run)
            run = []
        run = [*run, i] if light_of_settings(measures[i]) else []
    return [r for r in [*found, run] if FEWEST <= len(r) <= MOST]


def _goes_on(measures: Sequence[Measure], run: list[int], i: int) -> bool:
    """Whether a frame belongs to the bracket before it."""
    m, last = measures[i], measures[run[-1]]
    light = light_of_settings(m)
    if light is None or len(run) == MOST:
        return False
    if (m.camera, m.width, m.height, m.f35, m.kind) != (
        last.camera,
        last.width,
        last.height,
        last.f35,
        last.kind,
    ):
        return False
    if m.time is not None and last.time is not None and m.time - last.time > (last.exposure_s or 0) + GAP_S:
        return False
    return all(abs(np.log2(light / (light_of_settings(measures[k]) or light))) >= STEP_EV for k in run)


def same_pattern(measures: Sequence[Measure], brackets: Sequence[Sequence[int]]) -> bool:
    """Whether every bracket repeats the exposures of the first."""
    steps = [[light_of_settings(measures[i]) or 0.0 for i in one] for one in brackets]
    return all(len(a) == len(b) and np.allclose(a, b, rtol=0.05) for a, b in pairwise(steps))
