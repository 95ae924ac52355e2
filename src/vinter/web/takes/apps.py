"""The app of the takes; its kinds of job are registered when it is loaded."""

from django.apps import AppConfig

from vinter.web.jobs.registry import register


class TakesConfig(AppConfig):
    """Registers what its tasks do."""

    name = "vinter.web.takes"

    def ready(self) -> None:
        """Name the functions by kind of job."""
        register("shoot", "vinter.web.takes.tasks.shoot_take")
        register("measure", "vinter.web.takes.tasks.measure_take")
        register("film", "vinter.web.takes.tasks.film_take")
