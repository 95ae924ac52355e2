"""What to pack for a night, from what is known of it."""

from dataclasses import dataclass

from vinter.core.forecast import Forecast


@dataclass(frozen=True)
class Item:
    """One thing to pack and why it is on the list."""

    text: str
    why: str = ""


ALWAYS = (
    Item("Phone, charged, storage free"),
    Item("Tripod and clamp", "legs stiff, clamp tried with the case on"),
    Item("Red lamp", "white light undoes half an hour of dark adaptation"),
    Item("Lens cloth"),
    Item("Remote release or the delay set"),
    Item("Water, something to eat"),
    Item("Somebody knows where you are and when you will be back"),
)
WET = ("tide", "dyke", "mud", "river", "water", "sea", "marsh", "flood")
BEASTS = ("livestock", "cattle", "cows", "dogs", "snake", "boar", "sheep", "wildlife")
EDGES = ("quarry", "cliff", "edge", "drop", "rock")
ROADS = ("road", "verge", "layby", "traffic")


MARGIN_SECONDS = 3600.0  # before and after the shooting: setting up, and the walk back


def cold_and_dew(
    forecast: Forecast | None, moment: float, minutes: float
) -> tuple[float | None, float | None]:
    """The lowest temperature (deg C) and the least spread to the dew point (K) while one is out; None without
    a forecast."""
    hours = (
        forecast.between(moment - MARGIN_SECONDS, moment + minutes * 60 + MARGIN_SECONDS) if forecast else []
    )
    return min((h.temperature for h in hours), default=None), min(
        (h.temperature - h.dew_point for h in hours), default=None
    )


def pack_list(
    temperature: float | None,
    drive_minutes: float | None,
    minutes: float,
    cautions: str,
    alone: bool = True,
    dew_spread: float | None = None,
    signal: bool = True,
) -> list[Item]:
    """Things to pack: temperature in deg C (None when not known), drive and shooting time in minutes, the
    site's cautions."""
    out = list(ALWAYS)
    words = cautions.lower()

    def add(text: str, why: str) -> None:
        out.append(Item(text, why))

    if temperature is None or temperature < 12:
        add(
            "Warm layers, hat, gloves that work the screen",
            "cold not known yet" if temperature is None else f"{temperature:.0f} °C expected",
        )
    if temperature is not None and temperature < 3:
        add("Power bank in an inner pocket", "cold takes a fifth of the charge and more")
    elif minutes > 60:
        add("Power bank and cable", f"{minutes:.0f} minutes of shooting")
    if dew_spread is not None and dew_spread < 3:
        add("Heat pack and a band for the lens", f"air within {dew_spread:.0f} K of the dew point")
    if drive_minutes and drive_minutes > 60:
        add("Rest planned for the way back", f"{drive_minutes:.0f} minutes of night driving when tired")
    for found, text in (
        (WET, "Boots, and the time of high water written down"),
        (BEASTS, "Light to see animals by, dog repellent if you need it"),
        (EDGES, "The ground walked once by day; a bright lamp for the way only"),
        (ROADS, "Reflective vest for the road side"),
    ):
        hit = next((w for w in found if w in words), None)
        if hit:
            add(text, f"the site's note speaks of {hit}")
    if alone:
        add("Charged second phone or whistle", "alone")
    if not signal or "no signal" in words:
        add("Card and map kept on the phone, offline", "no signal")
    return out
