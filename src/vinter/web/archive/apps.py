"""The app of archives; its kinds of job are registered when it is loaded."""

from django.apps import AppConfig

from vinter.web.jobs.registry import LONG, JobKind, register


class ArchiveConfig(AppConfig):
    """Registers what its tasks do."""

    name = "vinter.web.archive"

    def ready(self) -> None:
        """Name the functions by kind of job."""
        register("archive", JobKind("vinter.web.archive.tasks.make", LONG, "an archive"))
        register("import-archive", JobKind("vinter.web.archive.tasks.bring_in", LONG, "reading an archive"))
