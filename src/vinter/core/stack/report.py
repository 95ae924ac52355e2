"""What a stack reports: which frames, how well aligned, how much less noise, how wide the stars."""

from dataclasses import asdict

import numpy as np
import numpy.typing as npt

from vinter.core.stack.combining.plan import Done
from vinter.core.stack.foreground.alignment import HELD_PX, CameraShift
from vinter.core.stack.ingest import Ingested
from vinter.core.stack.options import Options
from vinter.core.stack.photometry.normalization import Normalization
from vinter.core.stack.plate_solve import Solution
from vinter.core.stack.registration.groups import Registration
from vinter.core.stack.registration.star_matching import Alignment
from vinter.core.versions import Data, Schema


def _tripod_and_significance(report: Data) -> Data:
    """Version 1 called the tripod's frames "stand" and a fall-off that can be trusted "told"."""
    if "stand" in report:
        report["tripod"] = report.pop("stand")
    falloff = report.get("falloff")
    if falloff and "told" in falloff:
        falloff["significant"] = falloff.pop("told")
    return report


def _what_was_looked_at(report: Data) -> Data:
    """Version 2 counted the reference among the frames whose ground was compared with it, called a tripod
    held that nobody looked at, let the noise fall by more than the root of the frames, and left the sky that
    a pixel sees out of the fall-off."""
    tripod, expected = report.get("tripod"), report.get("noise_expected")
    if tripod and tripod.get("looked_at"):
        tripod["looked_at"] -= 1
        tripod["held"] = tripod["held"] if tripod["looked_at"] or tripod["groups"] > 1 else None
    if report.get("noise_gain") and expected:
        report["noise_gain"] = min(report["noise_gain"], expected)
    corners, field = report.pop("falloff", None), report.get("field")
    if corners and field:
        tangent = np.hypot(field["width"], field["height"]) / 2 / field["focal_px"]
        more = 0.0 if corners["taken_out"] else 3.75 * float(np.log10(1 + tangent**2))
        corners |= {"corner": corners["corner"] + more, "starlight": corners["corner"]}
        corners["significant"] = bool(abs(corners["corner"]) > 2 * corners["corner_error"])
    report["corners"] = corners
    return report


def _kinds(report: Data) -> Data:
    """Version 3 called joining and taking the sharpest methods of a stack."""
    kind = report.get("method") if report.get("method") in ("join", "lucky") else "stack"
    if kind != "stack":
        del report["method"]
    return report | {"kind": kind}


REPORT = Schema("stack report", (_tripod_and_significance, _what_was_looked_at, _kinds))


def _frame_row(frame: Ingested, alignment: Alignment) -> Data:
    assert frame.measure is not None
    return {
        "file": frame.path.name,
        "used": alignment.used,
        "reason": alignment.reason,
        "homography": [[float(v) for v in row] for row in alignment.homography] if alignment.used else None,
        "residual_px": round(alignment.residual_px, 4),
        "stars": frame.measure.stars,
        "fwhm_px": frame.measure.fwhm_px,
        "time": frame.time,
        "time_source": frame.measure.time_source,
    }


def _taken(frame: Ingested) -> Data:
    """What the reference's file says of when, where and through what it was taken."""
    m = frame.measure
    assert m is not None
    return {
        "time": m.time,
        "time_source": m.time_source,
        "local": m.local,
        "exposure_s": m.exposure_s,
        "place": list(m.place) if m.place else None,
        "f35": m.f35,
        "camera": m.camera,
    }


def build(
    frames: list[Ingested],
    unread: list[Ingested],
    registration: Registration,
    options: Options,
    tiles: list[Done],
    widths: tuple[float, float],
    mask: npt.NDArray[np.uint8],
) -> Data:
    """The report as plain JSON data; noise as shares of full scale, widths and residuals in px."""
    alignments, model, reference = registration.alignments, registration.model, registration.reference
    used = sum(a.used for a in alignments)
    rows = [_frame_row(f, a) for f, a in zip(frames, alignments, strict=True)]
    rows += [
        {"file": f.path.name, "used": False, "reason": f.error, "homography": None, "residual_px": 0.0}
        for f in unread
    ]
    single = np.array([t.single_noise for t in tiles])
    stacked = np.array([t.stack_noise for t in tiles])
    seen = np.isfinite(single) & np.isfinite(stacked) & (stacked > 0)
    gain = float(np.median(single[seen] / stacked[seen])) if seen.any() else None
    expected = float(np.sqrt(used))
    return {
        "version": REPORT.version,
        "reference": frames[reference].path.name,
        "taken": _taken(frames[reference]),
        "model": "loose rotation"
        if registration.loose
        else "rotation"
        if model
        else "none"
        if not options.method.points
        else "homography",
        "lens": {"focal_px": model.focal, "k1": model.k1, "rms_px": model.rms} if model else None,
        "kind": "stack",
        "method": options.method,
        "options": options.stored(),
        "frames": rows,
        "frames_used": used,
        "noise_gain": round(min(gain, expected), 3) if gain else None,
        "noise_expected": round(expected, 3),
        "noise_single": float(np.median(single[seen])) if seen.any() else None,
        "noise_stack": float(np.median(stacked[seen])) if seen.any() else None,
        "fwhm_frame": round(widths[0], 3),
        "fwhm_stack": round(widths[1], 3),
        "sky_share": round(float(mask.mean()) / 255, 4),
    }


def joined_report(field: Solution, joined: Data, parts: list[Data]) -> Data:
    """The report of a picture joined of stacks: what joining found, the field, and the frames of all
    parts."""
    rows = [row for part in parts for row in part.get("frames", [])]
    used = [int(part.get("frames_used") or 1) for part in parts]
    return {
        "version": REPORT.version,
        "kind": "join",
        "reference": parts[0].get("reference", ""),
        "frames": rows,
        "frames_used": sum(used),
        "noise_gain": None,
        "noise_expected": round(float(np.sqrt(min(used))), 3),
        "joined": joined,
        "field": asdict(field),
        "corners": None,
    }


def of_frames(
    frames: list[Ingested],
    registration: Registration,
    shifts: dict[int, CameraShift],
    normalizations: list[Normalization],
) -> Data:
    """What was found of each frame's ground and light, by the order of the frames, and what it says of the
    tripod."""
    rows = []
    for i, f in enumerate(frames):
        shift, m = shifts.get(i), normalizations[i]
        rows.append(
            {
                "file": f.path.name,
                "group": registration.groups.number[i],
                "ground_px": shift.moved_px if shift and shift.known else None,
                "ground_shift": list(shift.shift) if shift and shift.known else None,
                "light": round(m.light, 4),
                "light_error": round(m.light_error, 4),
                "scaled": round(m.scale, 4),
                "background_shift": round(m.shift, 6),
                "weight": round(m.weight, 3),
            }
        )
    looked_at = [s for i, s in shifts.items() if s.known and i != registration.reference]
    errors = [e for s in looked_at if np.isfinite(e := s.error_px) and e > 0]
    groups = len({registration.groups.number[i] for i, a in enumerate(registration.alignments) if a.used})
    return {
        "tripod": {
            "frames": rows,
            "groups": groups,
            "most_px": max((s.moved_px for s in looked_at), default=None),
            "held_px": HELD_PX,
            "error_px": round(float(np.median(errors)), 2) if errors else None,
            "held": all(s.held for s in looked_at)
            if looked_at and groups == 1
            else False
            if groups > 1
            else None,
            "looked_at": len(looked_at),
        }
    }
