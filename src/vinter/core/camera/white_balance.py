"""White balance in the camera: what the schools set, and when it matters at all."""

from vinter.core.camera.shutter import Opinion

# cool enough that a phone does not drift orange under towns, warm enough for skin and stone
FIXED_KELVIN = 4200
FIXED_MATTERS = "it flickers from frame to frame"
RAW_KEEPS = "RAW keeps the sensor's colour, so it can be changed later"


def white_balances(sequence: bool, raw: bool = True) -> list[Opinion]:
    """The schools' white balance in kelvin (0 for automatic) with our verdict: for a sequence (film, trails)
    it must not change; in RAW it only decides what the screen shows; without RAW it is in the picture."""
    fixed = "fixed, so a sequence holds" if sequence else RAW_KEEPS if raw else "it stays in the picture"
    automatic = (
        FIXED_MATTERS
        if sequence
        else f"{RAW_KEEPS}; but frames on the screen cannot be compared"
        if raw
        else "the phone guesses anew in every frame, and drifts blue or orange"
    )
    return [
        Opinion("cool, 4000 to 4400 K", FIXED_KELVIN, True, f"close to what a dark sky measures; {fixed}"),
        Opinion("tungsten preset", 3200, raw and not sequence, f"deep blue on the screen; {fixed}"),
        Opinion("warm, against blue phones", 5500, raw, f"a sky lit by towns turns orange; {fixed}"),
        Opinion("automatic, RAW does not care", 0, raw and not sequence, automatic),
    ]


def balance_reason(sequence: bool, raw: bool = True) -> str:
    """Ours, and why."""
    why = (
        "in a sequence nothing may change between frames"
        if sequence
        else "the histogram and the test shot can then be compared from frame to frame"
        if raw
        else "without RAW what is set is what you get"
    )
    return (
        f"Set {FIXED_KELVIN} K and leave it: {why}. Between 4000 and 4400 K nobody will see the difference."
    )
