"""Lines of light across a frame: aeroplanes and satellites, told from edges, gaps between trunks and
textures."""

from dataclasses import dataclass

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.frames.mosaic import PEDESTAL

F32 = npt.NDArray[np.float32]
Array = npt.NDArray[np.float64]
REDUCED = 2  # half-size px along a side of one reduced px, in which lines are sought
SEEN = 2.2  # standard deviations above the background that a place on a line shows
SHORTEST, GAP = 0.055, 0.03  # of the frame's diagonal: the shortest line, and the dark between its lights
STAR_PX = 9  # reduced px; what is smaller in both directions is a star
MOST_PIECES = 120  # rows of shining places, brightest first, that are looked at
BROAD, ALONG = 5.0, 48  # reduced px over which light is broad, and places along a row that tell its light
MANY = 8  # lines from which none is an aeroplane: a texture, a fence, a roof
SEGMENTS, LIT = 16, 0.6  # parts of a line that are looked at, and the share of them that must shine
MEDIAN_SEEN = 2.0  # standard deviations of a part's median from which it shines
SURE = 9.0  # standard deviations of a line's mean light above both its sides
STEP_SHARE = 0.5  # share of a line's light by which its two sides may differ: more is an edge
DARK_SIDE = 0.55  # share of the background under which the sides are no sky: a gap in something dark
OPEN = 0.85  # share of a line's parts that must have sky at both sides
SAME_DEGREES, SAME_PX = 3.0, 6.0  # by which pieces of one line may differ


@dataclass(frozen=True)
class Streak:
    """A line of light: its ends in px of the frame."""

    x0: float
    y0: float
    x1: float
    y1: float

    @property
    def length(self) -> float:
        """Px from end to end."""
        return float(np.hypot(self.x1 - self.x0, self.y1 - self.y0))


def find_streaks(over: F32, level: F32, noise: float) -> list[Streak]:
    """Lines of light on a half-size plane that stand over its smooth background, with that background and the
    noise; none where they are dense enough to be a texture."""
    size = over.shape[1] // REDUCED, over.shape[0] // REDUCED
    signal = cv2.resize(over, size, interpolation=cv2.INTER_AREA)
    floor = cv2.resize(level, size, interpolation=cv2.INTER_AREA)
    deviation = max(noise / REDUCED, 1e-6)
    # without what is broad: the clouds of the Milky Way shine in patches, and patches lie in rows
    fine = np.asarray(
        cv2.GaussianBlur(signal, (0, 0), 0.8) - cv2.GaussianBlur(signal, (0, 0), BROAD), np.float32
    )
    lines = _merged(_candidates(fine, SEEN * deviation * 0.45))
    base = float(np.median(floor[::4, ::4]))
    found = [line for line in lines if _is_line(line, signal, floor, base, deviation)]
    if len(found) > MANY:
        return []
    scale = 2 * REDUCED
    return [Streak(*(round(float(v) * scale + scale / 2, 1) for v in line)) for line in found]


def _candidates(fine: F32, threshold: float) -> list[Array]:
    """Straight rows of shining places that are no stars, the brightest along their way: (x0, y0, x1, y1) in
    reduced px."""
    _, labels, stats, _ = cv2.connectedComponentsWithStats(
        (fine > threshold).astype(np.uint8), connectivity=8
    )
    small = np.maximum(stats[:, cv2.CC_STAT_WIDTH], stats[:, cv2.CC_STAT_HEIGHT]) < STAR_PX
    small[0] = True
    left = np.where(small[labels], 0, 255).astype(np.uint8)
    diagonal = float(np.hypot(*fine.shape))
    found = cv2.HoughLinesP(
        left, 1, np.pi / 540, int(0.5 * SHORTEST * diagonal), None, SHORTEST * diagonal, GAP * diagonal
    )
    if found is None:
        return []
    lines = found.reshape(-1, 4).astype(float)
    t = np.linspace(0.02, 0.98, ALONG)
    x, y = (lines[:, [k]] + t * (lines[:, [k + 2]] - lines[:, [k]]) for k in (0, 1))
    light = np.minimum(fine[y.round().astype(int), x.round().astype(int)], 4 * threshold).mean(axis=1)
    return [np.asarray(line) for line in lines[np.argsort(-light)[:MOST_PIECES]]]


def _merged(lines: list[Array]) -> list[Array]:
    """Pieces that lie on one line joined, longest first."""
    if not lines:
        return []
    left = np.stack(lines)
    left = left[np.argsort(-np.hypot(left[:, 2] - left[:, 0], left[:, 3] - left[:, 1]), kind="stable")]
    out: list[Array] = []
    while len(left):
        base = left[0]
        way = base[2:] - base[:2]
        unit = way / np.hypot(*way)
        normal = np.array([-unit[1], unit[0]])
        directions = left[:, 2:] - left[:, :2]
        turned = np.degrees(np.arcsin(np.clip(np.abs(directions @ normal) / np.hypot(*directions.T), -1, 1)))
        off = np.abs((left.reshape(-1, 2, 2) - base[:2]) @ normal).max(axis=1)
        same = (turned < SAME_DEGREES) & (off < SAME_PX)
        same[0] = True
        along = (left[same].reshape(-1, 2) - base[:2]) @ unit
        out.append(np.concatenate([base[:2] + unit * along.min(), base[:2] + unit * along.max()]))
        left = left[~same]
    return out


def _side(five: F32) -> F32:
    """Median of five columns (n, 5)."""
    a, b, c, d, e = (np.ascontiguousarray(column) for column in five.T)
    a, b = np.minimum(a, b), np.maximum(a, b)
    d, e = np.minimum(d, e), np.maximum(d, e)
    low, high = np.maximum(a, d), np.minimum(b, e)  # neither the least nor the most of four
    low, high = np.minimum(low, high), np.maximum(low, high)
    return np.asarray(np.minimum(np.maximum(low, c), high))


def _is_line(line: Array, signal: F32, floor: F32, base: float, deviation: float) -> bool:
    """Whether a row of places is a narrow ridge with sky (its usual level is ``base``) at both sides, for
    most of its length."""
    way = np.array([line[2] - line[0], line[3] - line[1]])
    length = float(np.hypot(*way))
    if length < 2 * SEGMENTS:
        return False
    unit = way / length
    t, o = np.arange(0, length // SEGMENTS * SEGMENTS, 1.0), np.arange(-10.0, 11.0)
    x = np.asarray(line[0] + t[:, None] * unit[0] - o[None, :] * unit[1], np.float32)
    y = np.asarray(line[1] + t[:, None] * unit[1] + o[None, :] * unit[0], np.float32)
    across = cv2.remap(signal, x, y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT)
    across = np.minimum(across, np.percentile(across, 99))  # a star on the way is not the way
    one, other = _side(across[:, :5]), _side(across[:, -5:])
    # the largest of three lies 0.85 deviations high by noise alone
    over = across[:, 9:12].max(axis=1) - (one + other) / 2 - 0.85 * deviation
    parts = over.reshape(SEGMENTS, -1)
    light = float(over.mean())
    # by the median of a part: a few stars of the Milky Way in a row are no line
    lit = float(np.mean(np.median(parts, axis=1) > MEDIAN_SEEN * deviation / np.sqrt(parts.shape[1])))
    sure = light / (deviation / np.sqrt(len(over)))
    step = abs(float(np.median(one) - np.median(other)))
    if lit < LIT or sure <= SURE or step >= STEP_SHARE * light + deviation * 0.5:
        return False
    wide = float(np.mean(across[:, [5, 15]].mean(axis=1) - (one + other) / 2))
    return wide <= 0.6 * light and _open_sky(across, x, y, floor, base) >= OPEN


def _open_sky(across: F32, x: F32, y: F32, floor: F32, base: float) -> float:
    """Share of a line's parts with sky at both sides; ``base`` is its usual level."""
    whole = across + cv2.remap(floor, x, y, cv2.INTER_LINEAR, borderMode=cv2.BORDER_REFLECT)
    pedestal = min(float(PEDESTAL), base)
    darker = np.minimum(_side(whole[:, :5]), _side(whole[:, -5:])) - pedestal
    parts = np.median(darker.reshape(SEGMENTS, -1), axis=1)
    return float(np.mean(parts > DARK_SIDE * (base - pedestal)))
