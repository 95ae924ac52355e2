"""The job of a stack."""

import shutil
from dataclasses import asdict
from pathlib import Path

import numpy as np
from django.conf import settings

from vinter.core.errors import BadInput
from vinter.core.formats.pictures import write_jpeg
from vinter.core.frames.decoding import decoded
from vinter.core.frames.frame_type import CALIBRATION
from vinter.core.frames.measuring import clean
from vinter.core.frames.preview import gain_for, linear_of, stretched, thumbnail
from vinter.core.stack.file import read_stack
from vinter.core.stack.pipeline import Settings, stack
from vinter.core.stage_cache import prune
from vinter.web.jobs.registry import JobContext
from vinter.web.stacks.learning import learn_site
from vinter.web.stacks.models import Stack
from vinter.web.stacks.plate import examined
from vinter.web.stacks.working import working_copy
from vinter.web.takes.models import Frame
from vinter.web.takes.tasks import restore_originals


def run_stack(pk: int, context: JobContext) -> None:
    """Stack the frames a Stack names; writes the picture, the mask, previews before and after, and the
    working copy."""
    one = Stack.objects.select_related("take__shot__site", "take__shot__phone", "take__own_site").get(pk=pk)
    shutil.rmtree(one.folder, ignore_errors=True)
    one.folder.mkdir(parents=True)
    frames = list(Frame.objects.filter(pk__in=one.frames))
    restore_originals(one.take, frames, context)
    masters = {kind: tuple(f.path for f in one.take.serving_as(kind)) for kind in CALIBRATION}
    wanted = Settings(
        **asdict(one.chosen),
        ground=_ground(one, frames),
        darks=masters["dark"],
        flats=masters["flat"],
        bias=masters["bias"],
        mask=one.own_mask if one.painted else None,
        mask_straight=True,
        ground_frames=tuple(f.path for f in one.ground_frames),
        ground_choice=one.own_join if one.own_join.is_file() else None,
    )
    result = stack(
        [f.path for f in frames],
        one.picture,
        wanted,
        context.pool,
        lambda label, share: context.progress(label, 0.92 * share),
        context.stop,
        one.folder,
        one.take.work,
    )
    reference = result.report["reference"]
    one.report = named(result.report, {f.stored: f.name for f in [*frames, *one.ground_frames]})
    prune(Path(settings.MEDIA_ROOT).glob("*/takes/*/work"), settings.KEPT_LIMIT)
    context.progress("finding the field", 0.93)
    one.report |= examined(one)
    context.progress("drawing before and after", 0.96)
    draw_previews(one, reference)
    one.save(update_fields=["report"])
    learn_site(one)


def _ground(one: Stack, frames: list[Frame]) -> str:
    """What the core calls the ground: a word, or the stored name of a frame."""
    if not one.ground.startswith("frame:"):
        return one.ground
    wanted = next((f for f in frames if f"frame:{f.pk}" == one.ground), None)
    if wanted is None:
        raise BadInput("the frame that was to give the ground is not among those stacked")
    return wanted.stored


def named(value: object, names: dict[str, str]) -> object:
    """A report with the names people know in place of the stored ones."""
    if isinstance(value, dict):
        return {k: named(v, names) for k, v in value.items()}
    if isinstance(value, list):
        return [named(v, names) for v in value]
    return names.get(value, value) if isinstance(value, str) else value


def draw_previews(one: Stack, reference: str) -> None:
    """The reference frame and the stack in the same stretch, full size, and the working copy for
    finishing."""
    frame = decoded(one.take.folder / reference)
    data, _ = clean(frame)
    rgb, _, colour = read_stack(one.picture)
    single = linear_of(data, frame.pattern)
    if frame.warp and one.chosen.lens == "auto":
        single = frame.warp.straightened(np.asarray(single, np.float32))
    gain = gain_for(float(np.median(rgb[::8, ::8, 1])))
    write_jpeg(one.folder / "before.jpg", stretched(single, colour, gain), quality=90)
    after = stretched(rgb, colour, gain)
    write_jpeg(one.folder / "after.jpg", after, quality=90)
    write_jpeg(one.folder / "small.jpg", thumbnail(after), quality=88)
    working_copy(one)
