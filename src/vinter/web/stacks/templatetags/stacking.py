"""The form that stacks a take, for whoever shows a take."""

from django import forms, template

from vinter.web.stacks.bracket import brackets_of
from vinter.web.stacks.forms import StackForm
from vinter.web.stacks.forms import shown_class as class_of
from vinter.web.takes.models import Take

register = template.Library()


@register.filter
def shown_class(field: forms.BoundField) -> str:
    """The class by which the form shows a field with the method it belongs to."""
    return class_of(field)


@register.inclusion_tag("stacks/stack_form.html", takes_context=True)
def stack_form(context: template.Context, take: Take) -> dict[str, object]:
    """The choices of how to stack a take, and the button; and the exposure brackets among its frames."""
    return {
        "take": take,
        "form": StackForm(take, take.stackable()),
        "brackets": brackets_of(take),
        "request": context["request"],
    }
