"""Jobs of a take: the simulated phone shooting it, and measuring its frames."""

import re
import shutil
from concurrent.futures import Future
from dataclasses import replace
from pathlib import Path
from typing import TypeVar

from vinter.core.camera.projection import view_of
from vinter.core.formats.video import write_video
from vinter.core.frames.film import RAMP, TRAILS, ramp, tone
from vinter.core.frames.frame_type import classify_take
from vinter.core.frames.judging import compare
from vinter.core.frames.measure import stored_measure
from vinter.core.parallel import collected
from vinter.core.planning.shot import target_gone
from vinter.core.sky.targets import target
from vinter.web.jobs.registry import JobContext
from vinter.web.takes.focus import SOFT_TICKS, learn_focus
from vinter.web.takes.models import Frame, Take
from vinter.web.takes.unplanned import find_origin, split_apart
from vinter.web.takes.work import measure_file, shoot_frame

V = TypeVar("V")

FILM_FPS = 12.0


def _gather(
    futures: dict[Future[V], int], context: JobContext, label: str, start: float, end: float
) -> dict[int, V]:
    """Results by key with progress; stops when asked."""
    return dict(
        collected(
            futures,
            context.stop,
            lambda done, n: context.progress(f"{label} {done} of {n}", start + (end - start) * done / n),
        )
    )


def shoot_take(pk: int, context: JobContext) -> None:
    """Let the simulated phone shoot the take's shot, then measure the frames."""
    take = Take.objects.select_related("shot__site", "shot__phone").get(pk=pk)
    assert take.shot is not None
    Frame.everything.filter(take=take).delete()
    shutil.rmtree(take.folder, ignore_errors=True)
    take.previews.mkdir(parents=True)
    burst = take.burst()
    futures = {context.pool.submit(shoot_frame, burst, i, take.folder): i for i in range(burst.count)}
    names = _gather(futures, context, "shooting frame", 0.0, 0.55)
    Frame.objects.bulk_create(
        Frame(
            take=take,
            name=names[i],
            stored=names[i],
            size=(take.folder / names[i]).stat().st_size,
            digest=f"simulated {i}",
        )
        for i in sorted(names)
    )
    _try_ticks(take, context)
    _measure(take, context, 0.55)
    learn_focus(take)


def _try_ticks(take: Take, context: JobContext) -> None:
    """Who sees soft stars in the first frame tries a tick to each side, as the card says, and goes on where
    they were sharper until they are softer again: so does the stand-in, before its burst."""
    if abs(take.focus_error) < SOFT_TICKS or take.focused_at is None:
        return
    burst = take.burst()
    wait = burst.shutter + burst.gap
    way = -1.0 if take.focus_error > 0 else 1.0
    farther = range(2, round(abs(take.focus_error)) + 2)
    steps = [s for s in (-1.0, 1.0, *(way * k for k in farther)) if take.focused_at + s >= 0]
    for k, step in enumerate(steps):
        one = replace(
            burst,
            start=burst.start - (len(steps) - k) * wait,
            count=1,
            focus_error=burst.focus_error + step,
            traffic=False,
        )
        name = context.pool.submit(shoot_frame, one, 0, take.folder).result()
        Frame.objects.create(
            take=take,
            name=name,
            stored=name,
            size=(take.folder / name).stat().st_size,
            digest=f"simulated test {k}",
            frame_type="test",
            type_set_by_hand=True,
            tick=take.focused_at + step,
        )


def restore_originals(take: Take, frames: list[Frame], context: JobContext) -> None:
    """Shoot again the originals of a simulated take that are not here: the same seed gives the same bytes."""
    missing = [f for f in frames if not f.path.is_file()]
    if not missing or take.kind != Take.SIMULATED or take.shot is None:
        return
    burst = take.burst()
    take.folder.mkdir(parents=True, exist_ok=True)
    numbered = [
        (f, int(found[1]) - 1) for f in missing if (found := re.search(r"_(\d+)$", Path(f.name).stem))
    ]
    futures = {context.pool.submit(shoot_frame, burst, i, take.folder): i for _, i in numbered}
    made = _gather(futures, context, "shooting frame", 0.0, 0.3)
    for frame, i in numbered:
        (take.folder / made[i]).replace(frame.path)  # an archive that was brought in names files anew


def measure_take(pk: int, context: JobContext) -> None:
    """Measure the frames of an uploaded take that have no measures yet."""
    take = Take.objects.get(pk=pk)
    take.previews.mkdir(parents=True, exist_ok=True)
    _measure(take, context, 0.0)
    find_origin(take)
    if take.shot:
        take.settle_times()
    learn_focus(take)
    if take.simulation_overrides.get("by_night") and len(take.groups()) > 1:
        split_apart(take)


def film_take(pk: int, context: JobContext) -> None:
    """Write the stackable frames as a film: each was drawn with its own sky at the same level, so it does not
    flicker; a ramp gives back the course of the light."""
    take = Take.objects.get(pk=pk)
    frames, wish = take.stackable(), take.film_wish
    tones = [tone(f) for f in ramp([_light(f) for f in frames])] if wish.get("style") == RAMP else None
    write_video(
        take.film,
        [take.previews / f"{Path(f.stored).stem}.jpg" for f in frames],
        float(wish.get("fps", FILM_FPS)),
        stop=context.stop,
        progress=lambda done, n: context.progress(f"writing frame {done} of {n}", done / n),
        tones=tones,
        grow=wish.get("style") == TRAILS,
    )


def _light(frame: Frame) -> float:
    """The light of a frame's sky: its background over exposure and ISO."""
    m = frame.measure or {}
    return float(m["background"] / ((m.get("exposure_s") or 1.0) * (m.get("iso") or 100)))


def _measure(take: Take, context: JobContext, start: float) -> None:
    """Measure what has no measure, also what arrives meanwhile, then judge all against each other."""
    while waiting := [f for f in take.frame_set.all() if f.measure is None and not f.error]:
        _measure_some(take, waiting, context, start)
    _compare(take)


def _measure_some(take: Take, waiting: list[Frame], context: JobContext, start: float) -> None:
    futures = {
        context.pool.submit(measure_file, Path(f.path), f.name, take.previews): i
        for i, f in enumerate(waiting)
    }
    found = _gather(futures, context, "measuring frame", start, 1.0)
    for i, f in enumerate(waiting):
        f.error = found[i].get("error", "")
        f.measure = None if f.error else found[i]
    Frame.objects.bulk_update(waiting, ["measure", "error"])


def _compare(take: Take) -> None:
    """Judge the frames against each other, each among those of its night, camera and lens."""
    groups = take.groups()
    frames = [f for of_it in groups.values() for f in of_it]
    for of_it in groups.values():
        for f, m in zip(of_it, compare([stored_measure(f.measure or {}) for f in of_it]), strict=True):
            f.measure = {**(f.measure or {}), "verdict": m.verdict, "reasons": m.reasons}
    _outside(take, frames)
    types = classify_take([stored_measure(f.measure or {}) for f in frames])
    for f, frame_type in zip(frames, types, strict=True):
        f.frame_type = f.frame_type if f.type_set_by_hand else frame_type
    Frame.objects.bulk_update(frames, ["measure", "frame_type"])


def _outside(take: Take, frames: list[Frame]) -> None:
    """Doubt frames in which the target had left the frame, by their time and the shot's planned direction."""
    shot = take.shot
    if shot is None or not frames:
        return
    times = [(f.measure or {}).get("time") for f in frames]
    view = view_of(shot.core_lens, shot.pose, shot.portrait)
    what = target(shot.target)
    gone = target_gone(view, shot.site.core(), what, shot.moment, times)
    for f, out in zip(frames, gone, strict=True):
        m = f.measure or {}
        if out and m["verdict"] != "drop":
            reason = f"{what.name} had left the frame, if the phone pointed as planned"
            f.measure = {**m, "verdict": "doubt", "reasons": [reason, *m["reasons"]]}
