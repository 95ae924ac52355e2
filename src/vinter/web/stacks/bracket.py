"""Exposure brackets of a take: found, and the job that merges one."""

import shutil
from dataclasses import dataclass

import numpy as np

from vinter.core.frames.brackets import find_brackets, light_of_settings
from vinter.core.frames.frame_type import CALIBRATION
from vinter.core.frames.measure import stored_measure
from vinter.core.frames.selection import Decision
from vinter.core.stack.bracket import stack_bracket
from vinter.core.stack.settings import Settings
from vinter.web.jobs.registry import JobContext
from vinter.web.stacks.models import Stack
from vinter.web.stacks.plate import examined
from vinter.web.stacks.tasks import draw_previews, named
from vinter.web.takes.models import Frame, Take
from vinter.web.takes.tasks import restore_originals

MOST_SHOWN = 12  # brackets that a page offers


@dataclass(frozen=True)
class Bracket:
    """A bracket as a page offers it: its frames, and EV from the darkest to the brightest."""

    frames: list[Frame]
    range_ev: float


def can_be_merged(take: Take) -> list[Frame]:
    """Frames that may be of a bracket: all that can be read and were not dropped; by itself the darkest
    exposure looks like a dark."""
    kept = [f for f in take.frame_set.all() if f.measure and not f.error and f.decision != Decision.DROP]
    return [f for f in kept if not f.is_film and not (f.type_set_by_hand and f.frame_type in CALIBRATION)]


def brackets_of(take: Take) -> list[Bracket]:
    """The exposure brackets among a take's frames, in order of time."""
    frames = can_be_merged(take)
    measures = [stored_measure(f.measure or {}) for f in frames]
    out = []
    for numbers in find_brackets(measures)[:MOST_SHOWN]:
        lights = np.log2([light_of_settings(measures[i]) or 1.0 for i in numbers])
        out.append(Bracket([frames[i] for i in numbers], float(np.ptp(lights))))
    return out


def run_bracket(pk: int, context: JobContext) -> None:
    """Merge the bracket a row names; writes the picture, its mask, its previews and the working copy."""
    one = Stack.objects.select_related("take__shot__site", "take__shot__phone", "take__own_site").get(pk=pk)
    shutil.rmtree(one.folder, ignore_errors=True)
    one.folder.mkdir(parents=True)
    frames = list(Frame.objects.filter(pk__in=one.frames))
    restore_originals(one.take, frames, context)
    report = stack_bracket(
        [f.path for f in frames],
        one.picture,
        Settings(),
        context.pool,
        lambda label, share: context.progress(label, 0.92 * share),
        context.stop,
        one.folder,
        one.take.work,
    )
    reference = report["reference"]
    one.report = named(report, {f.stored: f.name for f in frames})
    context.progress("finding the field", 0.93)
    one.report |= examined(one)
    context.progress("drawing before and after", 0.96)
    draw_previews(one, reference)
    one.save(update_fields=["report"])
