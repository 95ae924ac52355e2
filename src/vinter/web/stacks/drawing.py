"""The report of a stack as bars to draw."""

from typing import Any

WIDTH, HEIGHT = 560.0, 70.0


def residual_bars(report: dict[str, Any]) -> dict[str, Any]:
    """For each frame a bar of its residual (px), and of its star width, scaled to a drawing of 560 x 70."""
    rows = report["frames"]
    step = WIDTH / max(len(rows), 1)
    most = max([r["residual_px"] for r in rows if r["used"]] + [0.1])
    widest = max([r.get("fwhm_px") or 0 for r in rows] + [1.0])
    bars = []
    for i, r in enumerate(rows):
        height = r["residual_px"] / most * HEIGHT if r["used"] else HEIGHT
        wide = (r.get("fwhm_px") or 0) / widest * HEIGHT
        bars.append({"x": round(i * step + 1, 1), "width": round(max(step - 2, 1), 1), "y": round(HEIGHT - height, 1),
                     "height": round(height, 1), "used": r["used"], "file": r["file"], "residual": r["residual_px"],
                     "wide_y": round(HEIGHT - wide, 1), "wide_height": round(wide, 1), "fwhm": r.get("fwhm_px") or 0})
    return {"bars": bars, "most": most, "widest": widest, "width": WIDTH, "height": HEIGHT}
