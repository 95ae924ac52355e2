"""What is known of a take's frames before they are combined: how they lie, what is sky, whether the ground
held, their light.

Every stage is found in the cache or made anew (``Run.stage``).
"""

from collections.abc import Callable
from concurrent.futures import Executor, Future
from dataclasses import dataclass, replace
from pathlib import Path

import cv2
import numpy as np
import numpy.typing as npt

from vinter.core.errors import BadInput
from vinter.core.frames.judging import compare
from vinter.core.frames.mosaic import half_plane
from vinter.core.parallel import Cancelled
from vinter.core.stack.combining.star_trails import Closed, close
from vinter.core.stack.foreground.alignment import CameraShift, camera_shifts
from vinter.core.stack.ingest import Ingested, quiet_worker
from vinter.core.stack.masking.light_ground import light_ground
from vinter.core.stack.masking.motion import not_sky
from vinter.core.stack.masking.sky_mask import find_sky
from vinter.core.stack.photometry.normalization import Normalization, normalize
from vinter.core.stack.registration.groups import Registration, left_out, reference_of, register
from vinter.core.stack.registration.star_matching import Alignment
from vinter.core.stack.run import Run
from vinter.core.stack.settings import Settings
from vinter.core.stage_cache import content_of, key_of

F32 = npt.NDArray[np.float32]
U8 = npt.NDArray[np.uint8]
REGISTERED = 2  # how frames are laid on each other: raised when it changes, so that what is kept is made anew
MASK_FRAMES, LEAST_CALM = 6, 3
LEAST_TRAVEL = 4.0  # px of the sky over the take, below which ground and sky do not move apart
MIRRORED = (
    0.03  # share of matched stars in the ground, beyond which the frames are registered again without them
)


@dataclass(frozen=True, kw_only=True)
class PreparedFrames:
    """All that is known of the frames before they are combined."""

    frames: list[Ingested]
    registration: Registration
    mask: U8
    mask_path: Path
    shifts: dict[int, CameraShift]
    normalizations: list[Normalization]
    closed: Closed

    @property
    def used(self) -> list[int]:
        """Frames that go into the picture."""
        return [i for i, a in enumerate(self.registration.alignments) if a.used]


def _moving(
    frames: list[tuple[Path, npt.NDArray[np.int64] | None]], homographies: list[npt.NDArray[np.float64]]
) -> tuple[U8, U8]:
    """What surely is no sky and what surely is, of frames on disk; for a pool process."""
    quiet_worker()
    return not_sky(
        [half_plane(np.load(spill, mmap_mode="r"), pattern) for spill, pattern in frames], homographies
    )


def _as_they_lie(
    frames: list[tuple[Path, npt.NDArray[np.int64] | None]], sources: list[npt.NDArray[np.float64]]
) -> tuple[F32, U8]:
    """Mean of the half-size greens of frames on disk as they lie, and what in it is ground as bright as the
    sky; for a pool process."""
    quiet_worker()
    planes = (half_plane(np.load(spill, mmap_mode="r"), pattern) for spill, pattern in frames)
    mean = np.asarray(sum(planes) / len(frames), np.float32)
    return mean, light_ground(mean, sources)


@dataclass(frozen=True)
class _MaskSeeds:
    """What a mask is found from, worked out by the pool: the mean of frames as they lie with ground as bright
    as the sky, what surely is no sky and what surely is (None where the sky did not move), and how far it
    moved, px."""

    lying: Future[tuple[F32, U8]]
    sure: Future[tuple[U8, U8]] | None
    travel: float


def _near(registration: Registration) -> list[int]:
    """The frames of the reference's camera that are used."""
    return [i for i, a in enumerate(registration.alignments) if a.used and registration.groups.number[i] == 0]


def _undisturbed(frames: list[Ingested], near: list[int]) -> list[int]:
    """Those of the frames that nothing is held against beside the others (a lamp lights the ground as the sky
    never does); all of them when too few are left."""
    judged = compare([m for i in near if (m := frames[i].measure) is not None])
    calm = [i for i, m in zip(near, judged, strict=True) if m.verdict == "keep"]
    return calm if len(calm) >= LEAST_CALM else near


def _seeds(pool: Executor, frames: list[Ingested], registration: Registration) -> _MaskSeeds:
    """Have the pool begin with what the mask is found from."""
    near = _undisturbed(frames, _near(registration))
    chosen = [near[i] for i in np.linspace(0, len(near) - 1, min(MASK_FRAMES, len(near))).round().astype(int)]
    homographies = [registration.alignments[i].homography for i in chosen]
    files = [(frames[i].spill, frames[i].pattern) for i in chosen]
    sources = [np.asarray(s.xy, float) for i in chosen if (s := frames[i].stars) is not None]
    travel = _travel(homographies, frames[registration.reference].size)
    moves = len(files) > 2 and travel > LEAST_TRAVEL
    return _MaskSeeds(
        sure=pool.submit(_moving, files, homographies) if moves else None,
        lying=pool.submit(_as_they_lie, files, sources),
        travel=travel,
    )


def _sky_mask(frames: list[Ingested], registration: Registration, seeds: _MaskSeeds) -> U8:
    """Mask from the mean of unmoved frames, from the stars that moved with the sky, and from what did not
    move with it."""
    near, alignments = _near(registration), registration.alignments
    places = [s.xy[alignments[i].pairs[:, 0]] for i in near if (s := frames[i].stars) is not None]
    mean, light = seeds.lying.result()
    return find_sky(
        mean,
        np.concatenate(places),
        frames[registration.reference].size,
        seeds.sure.result if seeds.sure else None,
        len(near),
        seeds.travel,
        light,
    )


def _travel(homographies: list[npt.NDArray[np.float64]], size: tuple[int, int]) -> float:
    """How far the sky's centre moves over the frames, px."""
    there = [h @ np.array([size[0] / 2, size[1] / 2, 1.0]) for h in homographies]
    places = np.array([p[:2] / p[2] for p in there])
    return float(np.hypot(*np.ptp(places, axis=0)))


def _mask_for(
    pool: Executor,
    settings: Settings,
    frames: list[Ingested],
    registration: Registration,
    seeds: _MaskSeeds | None,
) -> U8:
    """The mask of the settings: none at all, the user's own, or the one found, from seeds that the pool has
    begun with or begins with now."""
    size = frames[registration.reference].size[::-1]
    if settings.ground == "none" or (not settings.method.points and registration.model is None):
        return np.full(size, 255, np.uint8)
    if settings.mask is None:
        return _sky_mask(frames, registration, seeds or _seeds(pool, frames, registration))
    return drawn_over(settings.mask, settings, frames[registration.reference], size)


def drawn_over(path: Path, settings: Settings, base: Ingested, size: tuple[int, int]) -> U8:
    """A grey picture (height, width) drawn by hand over the reference, as it was shot.

    BadInput names the file when it is none, or of another size.
    """
    own = cv2.imread(str(path), cv2.IMREAD_GRAYSCALE)
    if own is None or own.shape != size:
        raise BadInput(f"{path.name}: not a grey picture of {size[1]} x {size[0]} px, the reference's size")
    warp = base.warp if settings.lens == "auto" else None
    if settings.mask_straight and warp:
        bent = warp.as_shot(own.astype(np.float32))
        return np.asarray(np.clip(np.round(bent), 0, 255), np.uint8)
    return np.asarray(own, np.uint8)


def _closed(registration: Registration, frames: list[Ingested], kept: list[int]) -> Closed:
    """The pauses between the kept frames, closed; counted in places of the kept ones."""
    assert registration.model is not None
    exposures = [m.exposure_s if (m := frames[i].measure) else None for i in kept]
    return close(registration.model.of(kept), exposures, [registration.alignments[i].used for i in kept])


def prepare(
    run: Run, frames: list[Ingested], frame_keys: list[str], lit: Callable[[PreparedFrames], None]
) -> PreparedFrames:
    """Register, mask, match the light and look at the ground, each from the cache where nothing changed.
    ``lit`` hears of all but the ground before that is looked at."""
    settings = run.settings
    reference = reference_of(frames, settings.reference)
    run.progress("aligning", 0.42)
    base_key = key_of("register", REGISTERED, frame_keys, frames[reference].path.name)
    seeds: list[_MaskSeeds] = []

    def begin_mask(found: Registration) -> None:
        if settings.ground != "none" and settings.mask is None:
            seeds.append(_seeds(run.pool, frames, found))

    registration: Registration = run.stage(
        "registration", base_key, lambda: register(frames, reference, begin_mask)
    )
    mask_key = key_of(
        "mask",
        base_key,
        settings.ground == "none",
        not settings.method.points,
        content_of(settings.mask) if settings.mask and settings.mask.is_file() else None,
        settings.mask_straight and settings.lens == "auto",
    )
    mask: U8 = run.stage(
        "mask",
        mask_key,
        lambda: _mask_for(run.pool, settings, frames, registration, seeds[0] if seeds else None),
    )
    if (share := _in_ground(frames, registration, mask)) > MIRRORED:
        run.progress("aligning again by the stars of the sky alone", 0.43)
        again_key = key_of("again", mask_key)
        again: Registration = run.stage(
            "registration_again", again_key, lambda: _by_the_sky(frames, mask, reference)
        )
        if again.count >= registration.count:  # else the sky alone has too few stars
            base_key, registration = again_key, again
            run.reused["mirrored"] = round(share, 3)
    mask_path = run.folder / "mask.npy"
    np.save(mask_path, mask)
    if run.stop():
        raise Cancelled
    if not settings.method.points:
        return _trailing(settings, frames, registration, mask, mask_path)
    mask_key = key_of("known", mask_key, base_key)
    used = [i for i, a in enumerate(registration.alignments) if a.used]
    plain = [Normalization()] * len(frames)
    normalizations = (
        plain
        if settings.match == "off"
        else run.stage(
            "light",
            key_of("match", mask_key),
            lambda: normalize(frames, registration.alignments, reference, mask),
        )
    )
    burst = PreparedFrames(
        frames=frames,
        registration=registration,
        mask=mask,
        mask_path=mask_path,
        shifts={},
        normalizations=normalizations,
        closed=Closed(),
    )
    lit(burst)
    run.progress("looking whether the ground held still", 0.43)

    def compare_grounds() -> dict[int, CameraShift]:
        if mask.min() == 255:
            return {i: CameraShift(known=False) for i in used}
        cameras = [registration.camera(i, f.focal_px, f.size) for i, f in enumerate(frames)]
        focal = registration.model.focal if registration.model else frames[reference].focal_px
        return camera_shifts(run.pool, frames, used, reference, cameras, mask_path, focal)

    return replace(burst, shifts=run.stage("ground", key_of("shifts", mask_key), compare_grounds))


def _in_ground(frames: list[Ingested], registration: Registration, mask: U8) -> float:
    """Share of the matched stars that lie in the ground: reflections in water, lamps."""
    low = total = 0
    for f, a in zip(frames, registration.alignments, strict=True):
        if a.used and f.stars is not None and len(a.pairs) and f.size == frames[registration.reference].size:
            x, y = np.round(f.stars.xy[a.pairs[:, 0]]).astype(int).T
            low += int((mask[y.clip(0, mask.shape[0] - 1), x.clip(0, mask.shape[1] - 1)] < 128).sum())
            total += len(x)
    return low / max(total, 1)


def _by_the_sky(frames: list[Ingested], mask: U8, reference: int) -> Registration:
    """Registration by those stars alone that lie in the sky; its pairs count all stars."""
    near = cv2.dilate(np.asarray(mask < 128, np.uint8), np.ones((31, 31), np.uint8))
    fewer, numbers = [], []
    for f in frames:
        assert f.stars is not None
        index = np.arange(len(f.stars))
        if f.size == (mask.shape[1], mask.shape[0]):
            x, y = np.round(f.stars.xy).astype(int).T
            index = np.flatnonzero(near[y.clip(0, mask.shape[0] - 1), x.clip(0, mask.shape[1] - 1)] == 0)
        fewer.append(replace(f, stars=f.stars.take(index)))
        numbers.append(index)
    found = register(fewer, reference)
    whole = [
        replace(
            a,
            pairs=np.c_[numbers[i][a.pairs[:, 0]], numbers[reference][a.pairs[:, 1]]]
            if len(a.pairs)
            else a.pairs,
        )
        for i, a in enumerate(found.alignments)
    ]
    return replace(found, alignments=whole)


def _trailing(
    settings: Settings, frames: list[Ingested], registration: Registration, mask: U8, mask_path: Path
) -> PreparedFrames:
    """For trails every frame that fits in size is used as it lies."""
    dropped = left_out(frames, registration.reference)
    kept = [i for i in range(len(frames)) if i not in dropped]
    closed = (
        _closed(registration, frames, kept) if registration.model and settings.gaps == "close" else Closed()
    )
    still = replace(
        registration, alignments=[Alignment(i not in dropped, dropped.get(i, "")) for i in range(len(frames))]
    )
    return PreparedFrames(
        frames=frames,
        registration=still,
        mask=mask,
        mask_path=mask_path,
        shifts={i: CameraShift(known=False) for i in kept},
        normalizations=[Normalization()] * len(frames),
        closed=closed,
    )
