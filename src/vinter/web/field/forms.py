"""What a change of the pack list asks for."""

from django import forms

LATEST = 4e9  # Unix time


class PackForm(forms.Form):
    """What to do: pack, unpack or leave out an item by its key, add one by its text, go alone or not."""

    do = forms.ChoiceField(
        label="what to do", choices=[(k, k) for k in ("pack", "unpack", "leave", "add", "alone", "together")]
    )
    key = forms.CharField(label="item", max_length=140, required=False)
    text = forms.CharField(label="words", max_length=120, required=False)

    def clean(self) -> dict[str, object]:
        """A key or words, as the change needs."""
        data = super().clean() or {}
        need = {"pack": "key", "unpack": "key", "leave": "key", "add": "text"}.get(data.get("do", ""))
        if need and not data.get(need):
            self.add_error(need, "is wanted")
        return data


class TimedForm(forms.Form):
    """A burst as it was timed: Unix times of its start and end, and its frames."""

    start = forms.FloatField(min_value=0, max_value=LATEST)
    end = forms.FloatField(min_value=0, max_value=LATEST)
    frames = forms.IntegerField(min_value=1, max_value=100_000)
