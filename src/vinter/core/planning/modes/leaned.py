"""No tripod at hand: what still works with the phone leaned on a stone."""

from vinter.core.camera import photons
from vinter.core.camera.frame_count import GAP_SECONDS
from vinter.core.camera.shutter import USES
from vinter.core.planning.modes.basis import (
    Basis,
    CardStep,
    ModePlan,
    Option,
    Shows,
    mode,
    sky_fitting_iso,
    storage,
    worst_trail,
)
from vinter.core.words import spoken_about

LONGEST = 10.0  # s; a leaned phone creeps by pixels in more
FEWEST = 8
SETTLE_SECONDS = 10.0
WIDE_MM = 35.0  # mm, equivalent focal length above which creeping shows


@mode(
    "leaned",
    "Leaned on a stone, no tripod",
    Option("minutes", "Minutes in all", 4, 0.5, 30),
    place=25,
    shows=Shows.OWN,
    gear=("no-tripod",),
    on_cloud="take short frames in the gaps",
)
def leaned(b: Basis, o: dict[str, float]) -> ModePlan:
    """Short frames with the longest delay, stacked; what needs a tripod said."""
    limit = b.exposure.shutter.tolerance_px / b.exposure.shutter.worst_px_s
    best = min(LONGEST, limit, b.lens.shutter_max)
    best = float(int(best)) if best >= 1 else round(best, 2)
    lasts = b.own.shutter or best
    n = max(int(o["minutes"] * 60 / (lasts + GAP_SECONDS)), FEWEST)
    set_to = b.settled(best, sky_fitting_iso(b, lasts, 0.12), n)
    sky = photons.sky_rate(b.lens, b.at.brightness)
    one = photons.snr(b.lens, photons.sky_rate(b.lens, b.band_mag), sky, set_to.shutter, set_to.iso)
    seen = one * max(b.lens.width / USES[b.use].output_px, 1.0) * set_to.frames**0.5
    return ModePlan(
        shutter=set_to.shutter,
        iso=set_to.iso,
        frames=set_to.frames,
        interval=set_to.shutter + GAP_SECONDS,
        figures=[
            ("Frames", f"{set_to.frames} of {set_to.shutter:g} s at ISO {set_to.iso}"),
            ("Target against noise in the picture, stacked", f"{seen:.1f} ± 30 %"),
            ("Longest before stars trail", spoken_about(limit)),
            storage(b, set_to.frames),
        ],
        steps=[
            CardStep("Wedge it: screen up, weight on it", "does not creep"),
        ],
        reasons=[
            *set_to.words,
            "Flat stone, wall or car roof (engine off): the phone's back on it, lens towards the sky, "
            "something "
            "soft under its lower edge. Release by delay or voice, never by finger.",
            f"A leaned phone creeps: {LONGEST:g} s at most, and many frames. The stars of each are laid "
            f"on each "
            "other by the stack, so small shifts between frames do no harm.",
            "Star trails, time-lapse, a panorama and a separate ground exposure need the tripod."
            + (" So does this lens: take the wide one." if b.lens.f35 > WIDE_MM else ""),
        ],
        cautions=["Not on a road or its edge, and not where stones move."],
        trail=worst_trail(b, set_to.shutter),
        delay=SETTLE_SECONDS,
    )
