"""The job of an export."""

from pathlib import Path

from vinter.core.finish.export import export
from vinter.core.finish.recipe import recipe_from
from vinter.core.formats.pictures import PictureInfo
from vinter.web.finish.caption import caption
from vinter.web.finish.models import Export
from vinter.web.jobs.registry import JobContext
from vinter.web.takes.models import Frame


def _info(one: Export) -> PictureInfo:
    """Metadata of the picture: what it shows, and the camera and time of its first frame."""
    stack = one.finish.stack
    first = Frame.objects.filter(pk__in=stack.frames).order_by("name").first()
    m = (first.measure or {}) if first else {}
    model = stack.take.phone.name if stack.take.phone else ""
    many = stack.report["frames_used"] if stack.report else len(stack.frames)
    return PictureInfo(
        stack.take.title if stack.alone else f"{stack.take.title}: {many} frames stacked",
        model.split(" ")[0],
        model,
        m.get("time"),
        m.get("iso"),
        m.get("exposure_s"),
        caption(one.finish),
    )


def export_finish(pk: int, context: JobContext) -> None:
    """Render a finish at full size into its file, and a small one beside it."""
    one = Export.objects.select_related("finish__stack__take__shot__phone").get(pk=pk)
    one.path.parent.mkdir(parents=True, exist_ok=True)
    recipe = recipe_from(one.recipe)
    stack = one.finish.stack.picture
    context.progress("rendering at full size", 0.1)
    made = context.pool.submit(
        export, stack, recipe, Path(one.path), one.output, _info(one), Path(one.small)
    ).result()
    one.made_width, one.made_height = made.width, made.height
    one.save(update_fields=["made_width", "made_height"])
