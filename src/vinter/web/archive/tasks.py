"""The jobs that write and read an archive."""

from vinter.web.archive.models import Archive
from vinter.web.archive.reading import read_archive
from vinter.web.archive.writing import write_archive
from vinter.web.jobs.registry import JobContext


def make(pk: int, context: JobContext) -> None:
    """Write the archive a person asked for."""
    one = Archive.objects.select_related("owner").get(pk=pk)
    one.path.parent.mkdir(parents=True, exist_ok=True)
    count = write_archive(one.owner, one.path, one.originals, context.progress)
    Archive.objects.filter(pk=pk).update(result={"files": count, "bytes": one.path.stat().st_size})


def bring_in(pk: int, context: JobContext) -> None:
    """Read an archive into the account; its file goes when it is in."""
    one = Archive.objects.select_related("owner").get(pk=pk)
    if one.result or not one.path.is_file():  # an earlier attempt brought it in
        return
    rows = Archive.objects.filter(pk=pk)
    read_archive(
        one.path, one.owner, context.progress, lambda found: rows.update(result=found or {"rows": 0})
    )
    one.path.unlink(missing_ok=True)
