"""The form that stacks a take, for whoever shows a take."""

from typing import Any

from django import template

from vinter.web.stacks.forms import StackForm
from vinter.web.takes.models import Take

register = template.Library()


@register.inclusion_tag("stacks/stack_form.html", takes_context=True)
def stack_form(context: template.Context, take: Take) -> dict[str, Any]:
    """The choices of how to stack a take, and the button."""
    return {"take": take, "form": StackForm(take, take.stackable()), "request": context["request"]}
