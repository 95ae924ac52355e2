"""The app of the finishes; its kinds of job are registered when it is loaded."""

from django.apps import AppConfig

from vinter.web.jobs.registry import QUICK, JobKind, register


class FinishConfig(AppConfig):
    """Registers what its tasks do."""

    name = "vinter.web.finish"

    def ready(self) -> None:
        """Name the functions by kind of job."""
        register("export", JobKind("vinter.web.finish.tasks.export_finish", QUICK, "an export"))
