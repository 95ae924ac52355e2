"""What tests of the stack share: its errors against a generator's truth, and a cube combined by hand."""

import numpy as np
from starfield import horizon

from vinter.core.stack.combining.kernels import Rules, combine
from vinter.core.stack.combining.methods import Method
from vinter.core.stack.combining.noise import noise_model


def through(homography, xy):
    h = np.c_[xy, np.ones(len(xy))] @ np.array(homography).T
    return h[:, :2] / h[:, 2:]


def errors(report, truth, spec):
    """Distance in px between where the report puts the true stars and where they are in the reference."""
    low = horizon(spec).min() - 10 if spec.ground else spec.height
    out = []
    for row in report["frames"]:
        here, there = truth[row["file"]], truth[report["reference"]]
        seen = (
            (here > 10).all(axis=1)
            & (here < [spec.width - 10, low]).all(axis=1)
            & (there > 10).all(axis=1)
            & (there < [spec.width - 10, low]).all(axis=1)
        )
        out.append(np.hypot(*(through(row["homography"], here[seen]) - there[seen]).T))
    return out


def combined(cube, method="clip", weights=None, spread=None):
    """Picture, counts and noise model of a cube."""
    ones, noise = np.ones(len(cube), np.float32), noise_model(cube)
    rules = Rules(
        Method(method),
        noise,
        ones if weights is None else np.float32(weights),
        ones if spread is None else np.float32(spread),
    )
    found = combine(cube, rules)
    return found.picture, found.count, noise
