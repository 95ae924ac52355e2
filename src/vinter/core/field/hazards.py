"""What can hurt at a site, as choices: each has a label to choose by, and what it puts on the pack list."""

from dataclasses import dataclass


@dataclass(frozen=True)
class Hazard:
    """A kind of danger: its label, and the thing to pack or do because of it."""

    label: str
    pack: str


HAZARDS: dict[str, Hazard] = {
    "water": Hazard("tide or water", "Boots, and the time of high water written down"),
    "edge": Hazard("edge or drop", "The ground walked once by day; a bright lamp for the way only"),
    "animals": Hazard("livestock or wild animals", "Light to see animals by, dog repellent if you need it"),
    "road": Hazard("road side", "Reflective vest for the road side"),
    "private": Hazard("private ground", "The owner's word, and a number to call"),
    "no_signal": Hazard("no signal", "Card and map kept on the phone, offline"),
}
