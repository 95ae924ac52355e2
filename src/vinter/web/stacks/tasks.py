"""The job of a stack."""

import shutil

import numpy as np

from vinter.core.finish.scene import prepare, read_stack, save_scene
from vinter.core.formats.pictures import write_jpeg
from vinter.core.frames.look import gain_for, linear_of, stretched, thumbnail
from vinter.core.frames.measure import clean
from vinter.core.frames.reading import read_frame
from vinter.core.frames.sorting import CALIBRATION
from vinter.core.stack.pipeline import Settings, stack
from vinter.web.jobs.handlers import Tools
from vinter.web.stacks.field import describe
from vinter.web.stacks.models import Stack
from vinter.web.takes.models import Frame

WORKING_PX = 1600


def run_stack(pk: int, tools: Tools) -> None:
    """Stack the frames a Stack names; writes the picture, the mask, looks before and after, and the working copy."""
    one = Stack.objects.select_related("take__shot__site", "take__shot__phone").get(pk=pk)
    shutil.rmtree(one.folder, ignore_errors=True)
    one.folder.mkdir(parents=True)
    frames = list(Frame.objects.filter(pk__in=one.frames))
    masters = {sort: tuple(f.path for f in one.take.calibration(sort)) for sort in CALIBRATION}
    wanted = Settings(one.method, one.kappa, one.ground, darks=masters["dark"], flats=masters["flat"], bias=masters["bias"],
                      mask=one.own_mask if one.painted else None, gaps=one.gaps, tail=one.tail)
    result = stack([f.path for f in frames], one.picture, wanted, tools.pool,
                   lambda label, share: tools.progress(label, 0.92 * share), tools.stop, one.folder)
    tools.progress("drawing before and after", 0.93)
    _looks(one, result.report["reference"])
    names = {f.stored: f.name for f in frames}
    for row in result.report["frames"]:
        row["file"] = names.get(row["file"], row["file"])
    result.report["reference"] = names.get(result.report["reference"], result.report["reference"])
    one.report = result.report
    tools.progress("finding the field", 0.98)
    one.report["field"] = describe(one)
    one.save(update_fields=["report"])


def _looks(one: Stack, reference: str) -> None:
    """The reference frame and the stack in the same stretch, full size, and the working copy for finishing."""
    frame = read_frame(one.take.folder / reference)
    data, _ = clean(frame)
    rgb, mask, colour = read_stack(one.picture)
    gain = gain_for(float(np.median(rgb[::8, ::8, 1])))
    write_jpeg(one.folder / "before.jpg", stretched(linear_of(data, frame.pattern), colour, gain), quality=90)
    after = stretched(rgb, colour, gain)
    write_jpeg(one.folder / "after.jpg", after, quality=90)
    write_jpeg(one.folder / "small.jpg", thumbnail(after), quality=88)
    save_scene(one.folder / "working.npz", prepare(rgb, mask, colour, WORKING_PX))
