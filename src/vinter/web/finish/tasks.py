"""The job of an export."""

from dataclasses import replace
from pathlib import Path

from vinter.core.finish.export import export
from vinter.core.finish.recipe import recipe_from
from vinter.core.formats.exif import Taken
from vinter.core.formats.pictures import PictureInfo
from vinter.core.frames.measure import stored_measure
from vinter.web.finish.caption import caption
from vinter.web.finish.models import Export
from vinter.web.jobs.registry import JobContext
from vinter.web.takes.models import Frame


def _info(one: Export) -> PictureInfo:
    """What the picture's file says: what it shows, and how its first frame was taken, as its take's page has
    it; of a take without places in its files the site's, for who wants the place in."""
    stack = one.finish.stack
    first = Frame.objects.filter(pk__in=stack.frames, measure__isnull=False).order_by("name").first()
    taken = stored_measure(first.measure).taken if first else Taken()
    site, phone = stack.take.site, stack.take.phone
    if phone and not taken.model:
        taken = replace(taken, model=phone.name)
    if site and taken.place is None:
        taken = replace(taken, place=(site.lat, site.lon))
    many = stack.report["frames_used"] if stack.report else len(stack.frames)
    title = stack.take.title if stack.alone else f"{stack.take.title}: {many} frames stacked"
    return PictureInfo(title=title, caption=caption(one.finish), taken=taken)


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
