"""The light of stacks that are joined: brought to one where they overlap, by what a lens and a sky can differ
in."""

from dataclasses import dataclass, field

import numpy as np
import numpy.typing as npt

F32 = npt.NDArray[np.float32]
Array = npt.NDArray[np.float64]
ROUNDS = 4
TILT_HELD, CORNER_HELD = 0.02, 0.05  # of the samples' weight that holds a slope, and the corners, at nothing
FEWEST = 20  # places of overlap from which light is compared


@dataclass(frozen=True)
class Sample:
    """Light (n, 3) of a stack at places of the picture, where it shows sky, and the places from -1 to 1
    across and down the stack."""

    values: Array
    there: npt.NDArray[np.bool_]
    across: Array
    down: Array


@dataclass(frozen=True)
class LightMatch:
    """What a stack is multiplied by: exp(level + across u + down v + square r^2 + fourth r^4) a colour, with
    r = 1 in the corner."""

    level: Array = field(default_factory=lambda: np.zeros(3))
    across: Array = field(default_factory=lambda: np.zeros(3))
    down: Array = field(default_factory=lambda: np.zeros(3))
    square: Array = field(default_factory=lambda: np.zeros(3))
    fourth: Array = field(default_factory=lambda: np.zeros(3))

    def at(self, u: F32, v: F32) -> F32:
        """Factors (h, w, 3) at places from -1 to 1."""
        r2 = (u * u + v * v) / 2
        return np.asarray(
            np.exp(
                self.level
                + u[..., None] * self.across
                + v[..., None] * self.down
                + r2[..., None] * self.square
                + (r2 * r2)[..., None] * self.fourth
            ),
            np.float32,
        )


def match_light(samples: list[Sample]) -> tuple[list[LightMatch], float | None]:
    """Factors that make stacks agree where they overlap, and the difference left there (share, median); the
    brightness of the whole stays. None where nothing overlaps."""
    n = len(samples)
    rows, wanted = [], []
    for i, a in enumerate(samples):
        for j in range(i + 1, n):
            b = samples[j]
            both = a.there & b.there & (a.values > 1e-6).all(axis=1) & (b.values > 1e-6).all(axis=1)
            if both.sum() < FEWEST:
                continue
            row = np.zeros((int(both.sum()), 3 * n + 2))
            for k, s, sign in ((i, a, 1.0), (j, b, -1.0)):
                u, v = s.across[both], s.down[both]
                r2 = (u * u + v * v) / 2
                row[:, 3 * k : 3 * k + 3] += sign * np.c_[np.ones(len(u)), u, v]
                row[:, -2:] += sign * np.c_[r2, r2 * r2]
            rows.append(row)
            wanted.append(np.log(b.values[both] / a.values[both]))
    if not rows:
        return [LightMatch() for _ in samples], None
    design, target = np.concatenate(rows), np.concatenate(wanted)
    held = np.full(3 * n + 2, TILT_HELD)
    held[0 : 3 * n : 3] = 1e-4
    held[-2:] = CORNER_HELD
    hold = np.diag(np.sqrt(held * len(design) / n))
    best = np.zeros((3 * n + 2, 3))
    weight = np.ones(len(design))
    for _ in range(ROUNDS):
        root = np.sqrt(weight)[:, None]
        best, *_ = np.linalg.lstsq(
            np.concatenate([design * root, hold]),
            np.concatenate([target * root, np.zeros((len(hold), 3))]),
            rcond=None,
        )
        off = np.abs(target - design @ best).max(axis=1)
        weight = 1 / (1 + (off / (3 * np.median(off) + 1e-6)) ** 2)
    levels = best[0 : 3 * n : 3]
    levels -= levels.mean(axis=0)
    left = float(np.median(np.abs(np.expm1((target - design @ best)[:, 1]))))
    return [
        LightMatch(levels[k], best[3 * k + 1], best[3 * k + 2], best[-2], best[-1]) for k in range(n)
    ], round(left, 5)
