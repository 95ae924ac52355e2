"""What the address of the forecast asks for."""

from django import forms

from vinter.web.forms import UnixTimeField


class SpanForm(forms.Form):
    """From when to when."""

    start = UnixTimeField(label="start")
    end = UnixTimeField(label="end")
