"""What a stack reports: which frames, how well aligned, how much less noise, how wide the stars."""

from typing import Any

import numpy as np
import numpy.typing as npt

from vinter.core.stack.ingest import Ingested
from vinter.core.stack.register import Alignment
from vinter.core.stack.rotation import RotationModel
from vinter.core.stack.tiles import Done


def _frame_row(frame: Ingested, alignment: Alignment) -> dict[str, Any]:
    assert frame.measure is not None
    return {"file": frame.path.name, "used": alignment.used, "reason": alignment.reason,
            "homography": [[float(v) for v in row] for row in alignment.homography] if alignment.used else None,
            "residual_px": round(alignment.residual_px, 4), "stars": frame.measure.stars,
            "fwhm_px": frame.measure.fwhm_px, "time": frame.time}


def build(frames: list[Ingested], unread: list[Ingested], alignments: list[Alignment], reference: int,
          model: RotationModel | None, method: str, tiles: list[Done], widths: tuple[float, float],
          mask: npt.NDArray[np.uint8]) -> dict[str, Any]:
    """The report as plain JSON data; noise as shares of full scale, widths and residuals in px."""
    used = sum(a.used for a in alignments)
    rows = [_frame_row(f, a) for f, a in zip(frames, alignments, strict=True)]
    rows += [{"file": f.path.name, "used": False, "reason": f.error, "homography": None, "residual_px": 0.0} for f in unread]
    single = np.array([t.single_noise for t in tiles])
    stacked = np.array([t.stack_noise for t in tiles])
    seen = np.isfinite(single) & np.isfinite(stacked) & (stacked > 0)
    gain = float(np.median(single[seen] / stacked[seen])) if seen.any() and method != "trails" else None
    return {
        "reference": frames[reference].path.name,
        "model": "rotation" if model else "none" if method == "trails" else "homography",
        "lens": {"focal_px": model.focal, "k1": model.k1, "rms_px": model.rms} if model else None,
        "method": method, "frames": rows, "frames_used": used,
        "noise_gain": round(gain, 3) if gain else None, "noise_expected": round(float(np.sqrt(used)), 3),
        "noise_single": float(np.median(single[seen])) if seen.any() else None,
        "noise_stack": float(np.median(stacked[seen])) if seen.any() else None,
        "fwhm_frame": round(widths[0], 3), "fwhm_stack": round(widths[1], 3),
        "sky_share": round(float(mask.mean()) / 255, 4)}
