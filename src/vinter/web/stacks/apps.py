"""The app of the stacks; its kinds of job are registered when it is loaded."""

from django.apps import AppConfig

from vinter.web.jobs.registry import LONG, JobKind, register


class StacksConfig(AppConfig):
    """Registers what its tasks do."""

    name = "vinter.web.stacks"

    def ready(self) -> None:
        """Name the functions by kind of job."""
        register("stack", JobKind("vinter.web.stacks.tasks.run_stack", LONG, "a stack"))
        register("lucky", JobKind("vinter.web.stacks.lucky.run_lucky", LONG, "a lucky stack"))
        register("bracket", JobKind("vinter.web.stacks.bracket.run_bracket", LONG, "a merged bracket"))
        register("join", JobKind("vinter.web.stacks.joining.run_join", LONG, "a joined picture"))
