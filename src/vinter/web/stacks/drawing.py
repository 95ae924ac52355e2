"""The report of a stack as drawings: what lies where, in the units of an SVG."""

import math
from itertools import pairwise

from vinter.core.versions import Data

WIDTH, HEIGHT = 560.0, 64.0
NOISE = (560.0, 190.0)


def _bars(values: list[float | None], most: float) -> list[dict[str, float]]:
    """A bar for each value, from the floor of a strip of the drawing's size; none where there is no value."""
    step = WIDTH / max(len(values), 1)
    return [
        {
            "x": round(i * step + 0.12 * step, 1),
            "width": round(max(0.76 * step, 1), 1),
            "y": round(HEIGHT - v / most * HEIGHT, 1),
            "height": round(v / most * HEIGHT, 1),
        }
        for i, v in enumerate(values)
        if v is not None
    ]


def _line(values: list[float | None], least: float, most: float) -> list[str]:
    """A line through values in the centres of the bars, as the points of polylines; broken where a value is
    missing."""
    step = WIDTH / max(len(values), 1)
    runs: list[list[str]] = [[]]
    for i, v in enumerate(values):
        if v is None:
            runs.append([])
        else:
            runs[-1].append(f"{(i + 0.5) * step:.1f},{HEIGHT - (v - least) / (most - least) * HEIGHT:.1f}")
    return [" ".join(r) for r in runs if r]


def _strip(values: list[float | None], ceiling: float) -> Data:
    most = max([v for v in values if v is not None] + [ceiling])
    return {"bars": _bars(values, most), "most": most}


def _noise(report: Data) -> Data | None:
    """Noise against the number of frames, both by doubling, with the root's line through the first point."""
    found = report.get("noise_by_count") or []
    if len(found) < 2:
        return None
    counts, noise = [c for c, _ in found], [v for _, v in found]
    single = noise[0] * math.sqrt(counts[0])
    left, right = math.log2(counts[0]), math.log2(counts[-1])
    low = math.log2(min(min(noise), single / math.sqrt(counts[-1]))) - 0.1
    high = math.log2(max(noise)) + 0.1
    width, height = NOISE

    def at(count: float, value: float) -> tuple[float, float]:
        return (
            round(50 + (math.log2(count) - left) / max(right - left, 1e-6) * (width - 70), 1),
            round(8 + (high - math.log2(value)) / max(high - low, 1e-6) * (height - 40), 1),
        )

    points = [
        {"x": at(c, v)[0], "y": at(c, v)[1], "count": c, "per_mille": 1000 * v, "gain": single / v}
        for c, v in found
    ]
    ideal = [at(c, single / math.sqrt(c)) for c in (counts[0], counts[-1])]
    return {
        "points": points,
        "line": " ".join(f"{p['x']},{p['y']}" for p in points),
        "ideal": ideal,
        "width": width,
        "height": height,
        "labelled": [
            p for i, p in enumerate(points) if i % max(len(points) // 6, 1) == 0 or i == len(points) - 1
        ],
    }


def _drift(rows: list[Data], held: float) -> Data | None:
    """How the ground lay in the frames looked at: right and down, px, with the band that counts as still."""
    shifts = [r["ground_shift"] for r in rows]
    if sum(s is not None for s in shifts) < 2:
        return None
    most = max([abs(v) for s in shifts if s for v in s] + [2 * held])
    band = HEIGHT / 2 * held / most
    marks = []
    for i, r in enumerate(rows):
        if r["ground_shift"]:
            right, down = (round(HEIGHT / 2 * (1 - v / most), 1) for v in r["ground_shift"])
            marks.append(
                {
                    "x": round((i + 0.5) * WIDTH / len(rows), 1),
                    "right": right,
                    "down": down,
                    "file": r["file"],
                    "shift": r["ground_shift"],
                    "px": r["ground_px"],
                }
            )
    return {
        "lines": {k: " ".join(f"{m['x']},{m[k]}" for m in marks) for k in ("right", "down")},
        "most": most,
        "band_y": round(HEIGHT / 2 - band, 1),
        "band": round(2 * band, 1),
        "marks": marks,
    }


def drawn(report: Data) -> Data:
    """Everything the page of a stack draws: strips of one bar a frame, in the order of the frames, and the
    curve of the noise."""
    rows = [r for r in report["frames"] if r.get("stars") is not None]
    tripod = report.get("tripod") or {"frames": [], "held_px": 0.7}
    by_file = {r["file"]: r for r in tripod["frames"]}
    beside = [by_file.get(r["file"]) for r in rows]
    wide = [r.get("fwhm_px") or None for r in rows]
    widths = _strip(wide, 1.0)
    step = WIDTH / max(len(rows), 1)
    known = [b for b in beside if b]
    light = [b["light"] if b else None for b in beside]
    level = [1000 * b["background_shift"] if b else None for b in beside]
    return {
        "residual": _strip([r["residual_px"] if r["used"] else None for r in rows], 0.1),
        "widths": widths,
        "stack_y": round(HEIGHT - report["fwhm_stack"] / widths["most"] * HEIGHT, 1)
        if report.get("fwhm_stack")
        else None,
        "columns": [
            {"x": round(i * step, 1), "width": round(step, 1), "row": r, "beside": b}
            for i, (r, b) in enumerate(zip(rows, beside, strict=True))
        ],
        "breaks": [
            round(i * step, 1)
            for i, (a, b) in enumerate(pairwise(beside), 1)
            if a and b and a["group"] != b["group"]
        ],
        "light": _strip(light, 1.2) if known and any(abs(v - 1) > 0.03 for v in light if v) else None,
        "level": _level(level),
        "drift": _drift(known, tripod["held_px"]),
        "noise": _noise(report),
        "width": WIDTH,
        "height": HEIGHT,
    }


def _level(values: list[float | None]) -> Data | None:
    """What was added to each frame's background, thousandths of full scale; None when it is next to
    nothing."""
    most = max([abs(v) for v in values if v is not None] + [0.0])
    return {"lines": _line(values, -most, most), "most": most} if most > 0.5 else None
