"""Whether a file holds true sensor data, by its noise and its levels."""

import numpy as np

from vinter.core.frames.frame import Frame

SMOOTHED = 0.25  # correlation of like-coloured neighbours above which a mosaic was smoothed
EIGHT_BITS, SOME_LEVELS = 270, 4  # levels of a byte and what rounding adds; fewer in use tell nothing


def _neighbour_correlation(frame: Frame) -> float:
    """Correlation of the noise of horizontal neighbours of one colour in the upper part of a mosaic."""
    assert frame.pattern is not None
    y, x = np.argwhere(frame.pattern == 1)[0]
    height, width = frame.data.shape
    plane = frame.data[y : height // 2 : 8, x + width // 4 // 2 * 2 : 3 * width // 4 : 2].astype(np.float32)
    d = (
        plane[:, 1:-1] - (plane[:, :-2] + plane[:, 2:]) / 2
    )  # for white noise neighbours of d correlate by -2/3
    limit = 4 * 1.4826 * np.median(np.abs(d)) + 1e-6
    a, b = d[:, :-1].ravel(), d[:, 1:].ravel()
    calm = (np.abs(a) < limit) & (np.abs(b) < limit)
    if calm.sum() < 1000 or a[calm].std() == 0:
        return 1.0
    return float(np.corrcoef(a[calm], b[calm])[0, 1] + 2 / 3)


def _steps(frame: Frame) -> float:
    """How many levels a frame's numbers can take, by the least step between those that it does take."""
    counts = np.bincount(frame.data[::7, ::7].ravel())
    low, high = np.searchsorted(np.cumsum(counts) / counts.sum(), (0.02, 0.98))
    levels = np.flatnonzero(counts[low : high + 1])
    step = int(np.diff(levels).min()) if len(levels) > SOME_LEVELS else 1
    return frame.white / max(step, 1)


def raw_kind(frame: Frame) -> tuple[str, list[str]]:
    """Whether a file is true sensor data: sensor, processed or unknown, with the evidence."""
    if frame.kind == "picture":
        return "processed", ["a finished picture, not RAW"]
    if frame.kind == "film":
        return "processed", ["a film, not RAW"]
    if frame.kind == "linear" and frame.path.suffix.lower() != ".dng":
        return "unknown", ["linear pixels of a program that does not say what it did"]
    if frame.kind == "linear":
        return "processed", ["a linear DNG: demosaiced, perhaps merged, inside the phone"]
    if _steps(frame) <= EIGHT_BITS:
        return "processed", ["a Bayer file of 8 bits: encoded or cut down by the phone, not sensor data"]
    excess = _neighbour_correlation(frame)
    evidence = f"noise of like-coloured neighbours correlates by {excess:+.2f}"
    if abs(excess) < SMOOTHED / 2:
        return "sensor", [f"{evidence}, as in untouched sensor data"]
    return ("processed" if excess > SMOOTHED else "unknown"), [f"{evidence}; untouched data have 0"]
