"""What to pack for a night, from what is known of it."""

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from vinter.core.field.hazards import HAZARDS
from vinter.core.forecast import Forecast


@dataclass(frozen=True)
class Item:
    """One thing to pack: a key that stays when the words change, the words, and why it is on the list."""

    key: str
    text: str
    why: str = ""


@dataclass(frozen=True, kw_only=True)
class Outing:
    """What is known of a night out: coldest temperature in deg C and least spread to the dew point in K (None
    when not known), minutes of driving and of shooting, keys of ``HAZARDS`` at the site, whether one goes
    alone, keys of ``GEAR`` that the picture asks for."""

    temperature: float | None = None
    dew_spread: float | None = None
    drive_minutes: float | None = None
    minutes: float = 0.0
    hazards: tuple[str, ...] = ()
    alone: bool = True
    gear: tuple[str, ...] = ()


ALWAYS = (
    Item("phone", "Phone, charged, storage free"),
    Item("tripod", "Tripod and clamp", "legs stiff, clamp tried with the case on"),
    Item("red-lamp", "Red lamp", "white light undoes half an hour of dark adaptation"),
    Item("cloth", "Lens cloth"),
    Item("release", "Remote release or the delay set"),
    Item("food", "Water, something to eat"),
    Item("told-somebody", "Somebody knows where you are and when you will be back"),
)

GEAR = {
    "tracker": Item(
        "tracker", "Star tracker, its charged battery, its wedge", "polar alignment before full dark"
    ),
    "lamp": Item("lamp", "Dimmable lamp, paper to soften it", "test at home that it does not band"),
    "telescope": Item("telescope", "Telescope, mount and eyepieces", "out an hour early, to cool"),
    "adapter": Item("adapter", "Eyepiece adapter, tried with the case on", "centred by day"),
    "counterweight": Item("counterweight", "Counterweight for phone and adapter"),
    "clip-on": Item("clip-on", "Clip-on lens, its cap", "both sides wiped"),
    "power": Item("power", "Power bank and cable", "hours of frames without a pause"),
    "no-tripod": Item("no-tripod", "Something soft to lean the phone on", "no tripod in this plan"),
}  # what a kind of picture asks for, by the keys that modes name
INSTEAD_OF_TRIPOD = "no-tripod"

MARGIN_SECONDS = 3600.0  # s before and after the shooting: setting up, and the walk back


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


def _weather_items(out: Outing) -> Iterator[Item]:
    cold = out.temperature
    if cold is None or cold < 12:
        why = "cold not known yet" if cold is None else f"{cold:.0f} °C expected"
        yield Item("warm-layers", "Warm layers, hat, gloves that work the screen", why)
    if cold is not None and cold < 3:
        yield Item("warm-bank", "Power bank in an inner pocket", "cold takes a fifth of the charge and more")
    elif out.minutes > 60 and "power" not in out.gear:
        yield Item("bank", "Power bank and cable", f"{out.minutes:.0f} minutes of shooting")
    if out.dew_spread is not None and out.dew_spread < 3:
        why = f"air within {out.dew_spread:.0f} K of the dew point"
        yield Item("heat-pack", "Heat pack and a band for the lens", why)


def pack_list(out: Outing) -> list[Item]:
    """Things to pack for a night out; each key once."""
    always = [item for item in ALWAYS if item.key != "tripod" or INSTEAD_OF_TRIPOD not in out.gear]
    items = [*always, *(GEAR[key] for key in out.gear), *_weather_items(out)]
    if out.drive_minutes and out.drive_minutes > 60:
        why = f"{out.drive_minutes:.0f} minutes of night driving when tired"
        items.append(Item("rest", "Rest planned for the way back", why))
    items += [
        Item(f"hazard-{key}", HAZARDS[key].pack, HAZARDS[key].label) for key in out.hazards if key in HAZARDS
    ]
    if out.alone:
        items.append(Item("second-phone", "Charged second phone or whistle", "alone"))
    return items


@dataclass(frozen=True)
class Mark:
    """What a person did with an item: packed it, left it out; ``text`` is theirs when the item is their
    own."""

    key: str
    packed: bool = False
    left_out: bool = False
    text: str = ""


@dataclass(frozen=True)
class Packed:
    """An item of the list as it stands."""

    item: Item
    packed: bool


def marked(items: Sequence[Item], marks: Sequence[Mark]) -> list[Packed]:
    """The list with a person's marks: what was left out is gone, their own things follow."""
    by_key = {mark.key: mark for mark in marks}
    own = [Item(mark.key, mark.text, "yours") for mark in marks if mark.text]
    rows = [(item, by_key.get(item.key, Mark(item.key))) for item in [*items, *own]]
    return [Packed(item, mark.packed) for item, mark in rows if not mark.left_out]
