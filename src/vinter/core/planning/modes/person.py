"""A person in the picture: the countdown, standing still, sharp at what distance, lit for how long."""

from vinter.core.camera.focus import blur_px, hyperfocal
from vinter.core.camera.frame_count import GAP_SECONDS
from vinter.core.camera.lamp import candela, lamp_seconds
from vinter.core.planning.modes.basis import (
    Basis,
    CardStep,
    ModePlan,
    Option,
    Shows,
    StepKind,
    mode,
    storage,
    usual,
    worst_trail,
)

HEIGHT_M = 1.75
SWAY_M = 0.01  # m that somebody who stands still moves in ten seconds or more
SKIN_AND_CLOTH = 0.3  # reflectance of skin and cloth
WALK_M_S = 0.8  # m/s in the dark over rough ground


@mode(
    "person",
    "A person under the sky",
    Option("distance", "Person at, m", 6, 1, 100),
    Option("lumen", "Lamp on them, lm (dimmed)", 1, 0.1, 20000),
    Option("lamp", "Lamp to person, m", 4, 0.3, 100),
    Option("cone", "Its cone, °", 60, 5, 180),
    needs_ground=True,
    place=55,
    shows=Shows.STACK,
    gear=("lamp",),
)
def person(b: Basis, o: dict[str, float]) -> ModePlan:
    """Somebody in one of the frames, the rest for the stack."""
    t, iso, n = usual(b)
    far, near = o["distance"], hyperfocal(b.lens)
    blur, sway = blur_px(b.lens, far), SWAY_M / far * b.lens.focal_px
    tall = HEIGHT_M / far * b.lens.focal_px
    walk = far / WALK_M_S + 3
    lit = lamp_seconds(b.lens, iso, candela(o["lumen"], o["cone"]), o["lamp"], SKIN_AND_CLOTH)
    short = lit < 1
    sharp = (
        f"At {far:g} m a person is sharp together with the stars ({blur:.1f} px of blur)."
        if far >= near
        else f"At {far:g} m a person is blurred by {blur:.1f} px while the stars are sharp; from "
        f"{near:.1f} m on "
        "they are sharp together. Or take the person's frame focused on them and blend."
    )
    return ModePlan(
        shutter=t,
        iso=iso,
        frames=n,
        interval=t + GAP_SECONDS,
        figures=[
            ("Stand still for", f"{t:g} s"),
            ("Countdown to walk in", f"{walk:.0f} s"),
            ("Sharp with the stars from", f"{near:.1f} m"),
            (
                "Height in the frame",
                f"{tall:.0f} px, {100 * tall / b.lens.height:.0f} % of a landscape frame",
            ),
            ("Swaying by 1 cm blurs by", f"{sway:.1f} px"),
            ("Lamp on them for", f"{lit:.2g} s, to a factor of two"),
            storage(b, n),
        ],
        steps=[
            CardStep("Stand still", f"{t:g} s"),
            CardStep("Lamp on them", f"{lit:.2g} s", StepKind.LAMP, float(f"{lit:.2g}")),
        ],
        reasons=[
            sharp,
            f"Feet apart, look at one point, breathe out: a centimetre of sway is {sway:.1f} px at "
            f"{far:g} m. Only "
            "one frame of the stack holds the person; the others gather the sky.",
            "A lamp from the side or behind draws an outline; from the camera it flattens."
            + (" Under a second cannot be counted: dim it, or stand it farther off." if short else ""),
        ],
        cautions=[
            "Walk the way by day first. Nobody near an edge, water or a road in the dark; lamp never "
            "into eyes."
        ],
        trail=worst_trail(b, t),
        delay=float(round(walk)),
    )
