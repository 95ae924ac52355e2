"""The job of a lucky stack: the sharpest share of a take's frames."""

import shutil

import numpy as np

from vinter.core.formats.pictures import write_jpeg
from vinter.core.frames.preview import gain_for, stretched, thumbnail
from vinter.core.stack.file import read_stack
from vinter.core.stack.lucky import lucky_report as report_of
from vinter.core.stack.lucky import stack_files
from vinter.web.jobs.registry import JobContext
from vinter.web.stacks.models import Stack
from vinter.web.stacks.working import working_copy
from vinter.web.takes.models import Frame


def run_lucky(pk: int, context: JobContext) -> None:
    """Stack the sharpest of the frames a row names; writes the picture, its previews and the working copy."""
    one = Stack.objects.select_related("take").get(pk=pk)
    frames = list(Frame.objects.filter(pk__in=one.frames))
    shutil.rmtree(one.folder, ignore_errors=True)
    one.folder.mkdir(parents=True)
    context.progress("judging and laying on", 0.1)
    made = context.pool.submit(stack_files, [f.path for f in frames], one.chosen.share, one.picture).result()
    one.report = report_of(made, [f.name for f in frames])
    context.progress("drawing", 0.95)
    rgb, _, colour = read_stack(one.picture)
    bright = float(np.percentile(rgb[..., 1], 95))
    picture = stretched(rgb, colour, gain_for(bright))
    write_jpeg(one.folder / "after.jpg", picture, quality=90)
    write_jpeg(one.folder / "small.jpg", thumbnail(picture), quality=88)
    working_copy(one)
    one.save(update_fields=["report"])
