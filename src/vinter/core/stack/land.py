"""What the ground of a stack is made of: frames that stood still, one frame, exposures of its own, or a pair focused near and far."""

from concurrent.futures import Executor
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.errors import BadInput
from vinter.core.frames.mosaic import SPAN, half_plane
from vinter.core.stack.ingest import Ingested
from vinter.core.stack.matching import Match
from vinter.core.stack.settings import Settings
from vinter.core.stack.stillness import HELD_PX, Stance, stance, view_of
from vinter.core.stack.tiles import Land, Source

Array = npt.NDArray[np.float64]
F32 = npt.NDArray[np.float32]
U8 = npt.NDArray[np.uint8]
SHARP_PX = 8.0  # half-size px over which sharpness is gathered
LEAST_GROUND_PX = 500


@dataclass(frozen=True)
class Ground:
    """The land of a plan and what is said of it in the report."""

    land: Land
    said: dict[str, Any]


def _source(frame: Ingested, homography: Array, match: Match | None = None) -> Source:
    return Source(frame.spill, frame.pattern, homography, match=match or Match())


def ground_of(settings: Settings, frames: list[Ingested], used: list[int], stands: dict[int, Stance], group: list[int], mask: U8) -> Ground:
    """The ground by the frames of the sky: the mean of those whose camera stood as the reference's did, or the one named.

    ``group`` numbers the stands between which the tripod was bumped, the reference's being 0. Frames whose ground could not be
    compared count as still unless another of the same stand is known to have moved.
    """
    if settings.ground == "none" or mask.min() == 255:
        return Ground(Land([]), {"way": "none", "frames": 0})
    if settings.ground != "auto":
        names = [frames[i].path.name for i in used]
        if Path(settings.ground).name not in names:
            raise BadInput(f"ground frame {settings.ground!r} is not among the frames used")
        i = used[names.index(Path(settings.ground).name)]
        return Ground(Land([_source(frames[i], np.eye(3) if stands[i].moved_px <= HELD_PX else stands[i].homography)]),
                      {"way": "one frame", "frames": 1, "name": frames[i].path.name})
    still = [i for i in used if stands[i].moved_px <= HELD_PX and np.allclose(stands[i].homography, np.eye(3), atol=2.0)]
    if any(stands[i].known and stands[i].moved_px > HELD_PX for i in used if group[i] == 0):
        still = [i for i in still if stands[i].known]
    sources, laid = [_source(frames[i], np.eye(3)) for i in still], 0
    if len(still) < 0.5 * len(used):  # the tripod slipped: the others are moved back as their own ground asks
        others = [i for i in used if i not in still and stands[i].known]
        sources, laid = sources + [_source(frames[i], stands[i].homography) for i in others], len(others)
    return Ground(Land(sources), {"way": "mean", "frames": len(sources), "moved": len(used) - len(still), "laid": laid})


def _plane(frame: Ingested) -> F32:
    return half_plane(np.load(frame.spill, mmap_mode="r"), frame.pattern)


def _light(here: F32, there: F32, ground: npt.NDArray[np.bool_], frame: Ingested, base: Ingested) -> tuple[float, str]:
    """By how much a ground exposure is brighter than the reference, measured on the ground, else by its settings."""
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


def own_ground(pool: Executor, settings: Settings, grounds: list[Ingested], base: Ingested, mask: U8, mask_path: Path,
               folder: Path) -> Ground:
    """The ground by exposures of its own, laid on the reference's ground and brought to its light.

    A frame of another size, or one whose ground cannot be laid on the reference's, is left out with the reason; BadInput
    when none is left.
    """
    ground = mask[::2, ::2] < 5
    there = _plane(base)[:ground.shape[0], :ground.shape[1]]
    rows, sources, planes = [], [], []
    looks = {}
    for g in grounds:
        if not g.error and g.size == base.size:
            looks[g.path] = pool.submit(stance, view_of(g, g.focal_px), view_of(base, base.focal_px), mask_path, np.eye(3), True)
    for g in grounds:
        if g.path not in looks:
            reason = g.error or f"{g.size[0]} x {g.size[1]} px, the sky frames have another size"
            rows.append({"file": g.path.name, "used": False, "reason": reason})
            continue
        lies: Stance = looks[g.path].result()
        if not lies.known:
            reason = f"its ground cannot be laid on the sky frames' (likeness {lies.likeness:.2f}): moved, or too dark to tell"
            rows.append({"file": g.path.name, "used": False, "reason": reason})
            continue
        here = _plane(g)[:ground.shape[0], :ground.shape[1]]
        light, how = _light(here, there, ground, g, base)
        laid = np.eye(3) if lies.moved_px <= HELD_PX / 2 else lies.homography
        sources.append(_source(g, laid, Match(scale=1 / light)))
        planes.append(here / light)
        rows.append({"file": g.path.name, "used": True, "reason": "", "light": round(light, 3), "light_by": how, "moved_px": lies.moved_px})
    if not sources:
        raise BadInput("no ground frame can be used: " + "; ".join(f"{r['file']}: {r['reason']}" for r in rows))
    shares = _sharpest(planes, sources, folder / "shares.npy") if settings.ground == "focus" and len(sources) > 1 else None
    return Ground(Land(sources, shares), {"way": settings.ground, "frames": len(sources), "rows": rows,
                                          "focus_shares": _mean_shares(shares, ground) if shares else None})


def _mean_shares(shares: Path, ground: npt.NDArray[np.bool_]) -> list[float]:
    data = np.load(shares, mmap_mode="r")
    return [round(float(np.asarray(s, np.float32)[:ground.shape[0], :ground.shape[1]][ground].mean()), 3) for s in data]


def _sharpest(planes: list[F32], sources: list[Source], out: Path) -> Path:
    """Which frame is sharpest at each place, as shares (n, height / 2, width / 2) that sum to 1, softly joined; written to ``out``.

    Sharpness is the energy of the Laplacian over a few pixels, less what the frame's own noise gives.
    """
    height, width = planes[0].shape
    energy = np.empty((len(planes), height, width), np.float32)
    for i, (plane, source) in enumerate(zip(planes, sources, strict=True)):
        half = np.diag([0.5, 0.5, 1]) @ source.homography @ np.diag([2.0, 2.0, 1])
        laid = cv2.warpPerspective(plane, half, (width, height), flags=cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
        edges = cv2.Laplacian(cv2.GaussianBlur(laid, (0, 0), 1.0), cv2.CV_32F)
        gathered = cv2.GaussianBlur(edges * edges, (0, 0), SHARP_PX)
        energy[i] = np.maximum(gathered - float(np.percentile(gathered, 5)), 0) + 1e-6
    share = energy**3
    share /= share.sum(axis=0)
    for i in range(len(planes)):
        share[i] = cv2.GaussianBlur(share[i], (0, 0), SHARP_PX / 2)
    np.save(out, (share / share.sum(axis=0)).astype(np.float16))
    return out
