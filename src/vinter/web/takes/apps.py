"""The app of the takes; its kinds of job are registered when it is loaded."""

from django.apps import AppConfig

from vinter.web.jobs.registry import LONG, QUICK, JobKind, register


class TakesConfig(AppConfig):
    """Registers what its tasks do."""

    name = "vinter.web.takes"

    def ready(self) -> None:
        """Name the functions by kind of job."""
        register(
            "shoot", JobKind("vinter.web.takes.tasks.shoot_take", LONG, "a burst of the simulated phone")
        )
        register("measure", JobKind("vinter.web.takes.tasks.measure_take", QUICK, "measuring", takes_in=True))
        register("film", JobKind("vinter.web.takes.tasks.film_take", LONG, "a time-lapse"))
