"""The form of a person's thresholds."""

from django import forms

from vinter.web.nights.models import Habits

LABELS = {
    "min_altitude": "Target at least this high, °",
    "sun_below": "Sun at most this high, °",
    "moon_cost": "Moonlight may cost, mag",
    "new_moon_days": "Near new Moon: within, days",
    "lit_percent": "Thin Moon: lit under, %",
    "moon_up_minutes": "Moon down: up at most, min",
    "darkest_class": "Map readers: this class or darker",
    "suburb_class": "A suburb will do: down to class",
    "drive_limit": "Willing to drive, min",
}


class HabitsForm(forms.ModelForm):  # type: ignore[type-arg]
    """Move the thresholds."""

    class Meta:
        model = Habits
        fields = list(LABELS)
        labels = LABELS
        help_texts = {
            "min_altitude": "10° is usual; at 50° north the core never gets there, try 3",
            "sun_below": "−18 is full darkness; −15 gives far northern summers a chance",
            "lit_percent": "people draw it at 20, 25 or 33",
            "moon_cost": "a window's minute counts as usable up to this",
        }
