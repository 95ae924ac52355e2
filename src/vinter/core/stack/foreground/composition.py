"""What the ground of a stack is made of: frames that stood still, one frame, exposures of its own, or a pair
focused near and far."""

from concurrent.futures import Executor
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.errors import BadInput
from vinter.core.frames.mosaic import PEDESTAL, SPAN, half_plane
from vinter.core.stack.combining.plan import Foreground, Source
from vinter.core.stack.foreground.alignment import HELD_PX, CameraShift, camera_shift, ground_view
from vinter.core.stack.ingest import GRID, Ingested
from vinter.core.stack.photometry.normalization import Normalization
from vinter.core.stack.settings import Settings

Array = npt.NDArray[np.float64]
F32 = npt.NDArray[np.float32]
U8 = npt.NDArray[np.uint8]
LAMP_LIGHT = 0.15  # share of the sky's light by which a lamp lifts one frame's ground above the others'
SHARP_PX = 8.0  # half-size px over which sharpness is collected
LEAST_GROUND_PX = 500


@dataclass(frozen=True)
class ForegroundChoice:
    """The foreground of a plan and what the report says of it."""

    foreground: Foreground
    summary: dict[str, Any]


def _source(frame: Ingested, homography: Array, normalization: Normalization | None = None) -> Source:
    return Source(frame.spill, frame.pattern, homography, normalization=normalization or Normalization())


def foreground_of_sky_frames(
    settings: Settings,
    frames: list[Ingested],
    used: list[int],
    shifts: dict[int, CameraShift],
    group: list[int],
    mask: U8,
) -> ForegroundChoice:
    """The ground by the frames of the sky: the mean of those whose camera stood as the reference's did, or
    the one named.

    ``group`` numbers the shifts between which the tripod was bumped, the reference's being 0. Frames whose
    ground could not be compared count as still unless another of the same stand is known to have moved.
    """
    if settings.ground == "none" or mask.min() == 255:
        return ForegroundChoice(Foreground([]), {"way": "none", "frames": 0})
    if settings.ground != "auto":
        names = [frames[i].path.name for i in used]
        if Path(settings.ground).name not in names:
            raise BadInput(f"ground frame {settings.ground!r} is not among the frames used")
        i = used[names.index(Path(settings.ground).name)]
        return ForegroundChoice(
            Foreground([_source(frames[i], np.eye(3) if shifts[i].held else shifts[i].homography)]),
            {"way": "one frame", "frames": 1, "name": frames[i].path.name},
        )
    still = [i for i in used if shifts[i].held and np.allclose(shifts[i].homography, np.eye(3), atol=2.0)]
    if any(shifts[i].known and not shifts[i].held for i in used if group[i] == 0):
        still = [i for i in still if shifts[i].known]
    lit = lamp_lit(frames, used, mask)
    still = [i for i in still if _wanted(settings.lamp, i in lit)] or still
    sources, laid = [_source(frames[i], np.eye(3)) for i in still], 0
    if len(still) < 0.5 * len(used):  # the tripod slipped: the others are moved back as their own ground asks
        others = [i for i in used if i not in still and shifts[i].known and _wanted(settings.lamp, i in lit)]
        sources, laid = sources + [_source(frames[i], shifts[i].homography) for i in others], len(others)
    return ForegroundChoice(
        Foreground(sources),
        {
            "way": "mean",
            "frames": len(sources),
            "moved": sum(not shifts[i].held for i in used),
            "laid": laid,
            "lit": [frames[i].path.name for i in sorted(lit)],
            "lamp": settings.lamp,
        },
    )


def _wanted(lamp: str, lit: bool) -> bool:
    return lamp == "all" or (lamp == "only") == lit


def lamp_lit(frames: list[Ingested], used: list[int], mask: U8) -> set[int]:
    """Frames whose ground shines much brighter than most frames' against their own sky: somebody's lamp."""
    rows, columns = GRID
    share = cv2.resize(mask.astype(np.float32), (columns, rows), interpolation=cv2.INTER_AREA)
    ground, sky = share < 12, share > 243
    grids = {i: g for i in used if (g := frames[i].grid) is not None}
    if ground.sum() < 3 or sky.sum() < 3 or len(grids) < 3:
        return set()
    above = {i: np.maximum(g[..., 1] - PEDESTAL, 1.0) for i, g in grids.items()}
    ratio = {i: float(np.median(g[ground]) / np.median(g[sky])) for i, g in above.items()}
    top = {i: float(np.max(g[ground]) / np.median(g[sky])) for i, g in above.items()}
    usual, peak = (float(np.percentile(list(v.values()), 30)) for v in (ratio, top))
    return {i for i in ratio if ratio[i] - usual > LAMP_LIGHT or top[i] - peak > 2 * LAMP_LIGHT}


def _plane(frame: Ingested) -> F32:
    return half_plane(np.load(frame.spill, mmap_mode="r"), frame.pattern)


def _light(
    here: F32, there: F32, ground: npt.NDArray[np.bool_], frame: Ingested, base: Ingested
) -> tuple[float, str]:
    """By how much a ground exposure is brighter than the reference, measured on the ground, else by its
    settings."""
    fair = ground & (here > 0.0005 * SPAN) & (here < 0.9 * SPAN) & (there < 0.9 * SPAN)
    enough = int(fair.sum()) > LEAST_GROUND_PX
    a, b = (float(p[fair].mean()) if enough else 0.0 for p in (here, there))
    noise = (base.measure.noise if base.measure else 0.01) * SPAN
    if a > 0 and b > 0.25 * noise:
        return a / b, "measured on the ground"
    m, n = frame.measure, base.measure
    if m and n and m.exposure_s and n.exposure_s and m.iso and n.iso:
        return m.exposure_s * m.iso / (n.exposure_s * n.iso), "by exposure time and ISO"
    return 1.0, "unknown"


def foreground_of_own_frames(
    pool: Executor,
    settings: Settings,
    grounds: list[Ingested],
    base: Ingested,
    mask: U8,
    mask_path: Path,
    folder: Path,
    choice: U8 | None = None,
) -> ForegroundChoice:
    """The ground by exposures of its own, laid on the reference's ground and brought to its light.

    ``choice`` (height, width) names the ground frame that was painted at a place, from 1; 0 leaves it to
    sharpness.

    A frame of another size, or one whose ground cannot be laid on the reference's, is left out with the
    reason; BadInput when none is left.
    """
    ground = mask[::2, ::2] < 5
    there = _plane(base)[: ground.shape[0], : ground.shape[1]]
    rows, sources, planes, numbers = [], [], [], []
    pending = {}
    for g in grounds:
        if not g.error and g.size == base.size:
            pending[g.path] = pool.submit(
                camera_shift,
                ground_view(g, g.focal_px),
                ground_view(base, base.focal_px),
                mask_path,
                np.eye(3),
                True,
            )
    for g in grounds:
        if g.path not in pending:
            reason = g.error or f"{g.size[0]} x {g.size[1]} px, the sky frames have another size"
            rows.append({"file": g.path.name, "used": False, "reason": reason})
            continue
        shift: CameraShift = pending[g.path].result()
        if not shift.known:
            reason = (
                f"its ground cannot be laid on the sky frames' (likeness {shift.likeness:.2f}): "
                "moved, or too dark to tell"
            )
            rows.append({"file": g.path.name, "used": False, "reason": reason})
            continue
        here = _plane(g)[: ground.shape[0], : ground.shape[1]]
        light, how = _light(here, there, ground, g, base)
        laid = np.eye(3) if shift.moved_px <= HELD_PX / 2 else shift.homography
        sources.append(_source(g, laid, Normalization(scale=1 / light)))
        planes.append(here / light)
        numbers.append(1 + grounds.index(g))
        rows.append(
            {
                "file": g.path.name,
                "used": True,
                "reason": "",
                "light": round(light, 3),
                "light_by": how,
                "moved_px": shift.moved_px,
            }
        )
    if not sources:
        raise BadInput(
            "no ground frame can be used: " + "; ".join(f"{r['file']}: {r['reason']}" for r in rows)
        )
    shares = (
        _sharpest(planes, sources, folder / "shares.npy", numbers, choice)
        if settings.ground == "focus" and len(sources) > 1
        else None
    )
    return ForegroundChoice(
        Foreground(sources, shares),
        {
            "way": settings.ground,
            "frames": len(sources),
            "rows": rows,
            "focus_shares": _mean_shares(shares, ground) if shares else None,
        },
    )


def _mean_shares(shares: Path, ground: npt.NDArray[np.bool_]) -> list[float]:
    data = np.load(shares, mmap_mode="r")
    return [
        round(float(np.asarray(s, np.float32)[: ground.shape[0], : ground.shape[1]][ground].mean()), 3)
        for s in data
    ]


def _sharpest(
    planes: list[F32], sources: list[Source], out: Path, numbers: list[int], choice: U8 | None
) -> Path:
    """Which frame is sharpest at each place, as shares (n, height / 2, width / 2) that sum to 1, softly
    joined; written to ``out``. Where ``choice`` names one of the frames' ``numbers``, it is taken.

    Sharpness is the energy of the Laplacian over a few pixels, less what the frame's own noise gives.
    """
    height, width = planes[0].shape
    energy = np.empty((len(planes), height, width), np.float32)
    for i, (plane, source) in enumerate(zip(planes, sources, strict=True)):
        half = np.diag([0.5, 0.5, 1]) @ source.homography @ np.diag([2.0, 2.0, 1])
        laid = cv2.warpPerspective(
            plane, half, (width, height), flags=cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE
        )
        edges = cv2.Laplacian(cv2.GaussianBlur(laid, (0, 0), 1.0), cv2.CV_32F)
        collected = cv2.GaussianBlur(edges * edges, (0, 0), SHARP_PX)
        energy[i] = np.maximum(collected - float(np.percentile(collected, 5)), 0) + 1e-6
    share = energy**3
    share /= share.sum(axis=0)
    if choice is not None:
        painted = choice[::2, ::2][:height, :width]
        for number in numbers:
            there = painted == number
            share[:, there] = 0
            share[numbers.index(number), there] = 1
    for i in range(len(planes)):
        share[i] = cv2.GaussianBlur(share[i], (0, 0), SHARP_PX / 2)
    np.save(out, (share / share.sum(axis=0)).astype(np.float16))
    return out
