"""Modes in which the tripod stands and the sky is the subject: stack, single frame, panorama, and the ground
with it."""

import numpy as np

from vinter.core.camera import photons
from vinter.core.camera.exposure import BAND_MAG, GAP_SECONDS
from vinter.core.camera.focus import blur_px, hyperfocal
from vinter.core.constants import SIDEREAL_ARCSEC
from vinter.core.modes.basis import Basis, CardStep, ModePlan, Option, StepKind, mode, storage, usual
from vinter.core.shot import field_of_view
from vinter.core.sky.ephemeris import year_of
from vinter.core.sky.targets import ARCH, position

OVERLAP = 0.35  # of a panorama's frames
GROUND_REFLECTANCE = 0.1
LAMP_METER = 12.5  # cd s/(m^2 ISO): a meter's constant; N^2/t = L ISO / K gives a mid grey
LAMP_UNDER = 1.5  # EV under mid grey: a lit ground at night should still look like night


@mode(
    "stack",
    "Stack of frames",
    Option("automatic", "Compared with an automatic mode of, min", 4, 0.5, 20),
    place=10,
    of_the_band=True,
)
def stack(b: Basis, o: dict[str, float]) -> ModePlan:
    """Short frames for stacking; beside them what an automatic mode of some minutes gives."""
    t, iso, n = usual(b)
    minutes = o["automatic"]
    light = minutes * 60 * 0.9  # such modes shoot most of the time
    own = n * t
    gain = float(np.sqrt(own / light))
    verdict = (
        f"{gain:.1f} times better"
        if gain > 1.05
        else f"{1 / gain:.1f} times worse"
        if gain < 0.95
        else "about the same"
    )
    return ModePlan(
        shutter=t,
        iso=iso,
        frames=n,
        interval=t + GAP_SECONDS,
        figures=[
            ("Noise falls by", f"{np.sqrt(n):.1f} ×"),
            storage(b, n),
            (f"Against {minutes:g} min of an automatic mode", f"signal to noise {verdict}"),
        ],
        reasons=[
            f"{n} frames gather {own / 60:.0f} min of light, the automatic mode about {light / 60:.0f}; it "
            "merges them inside the phone, "
            "so frames cannot be left out and trails cannot be made of them."
        ],
    )


@mode(
    "single", "Single frame", Option("snr", "Wanted signal to noise", 5, 1, 100), place=20, of_the_band=True
)
def single(b: Basis, o: dict[str, float]) -> ModePlan:
    """One frame, as good as one frame gets."""
    t, iso, _ = usual(b)
    band = photons.sky_rate(b.lens, BAND_MAG)
    one = photons.snr(b.lens, band, photons.sky_rate(b.lens, b.at.brightness), t, iso)
    wanted = int(np.ceil((o["snr"] / one) ** 2))
    return ModePlan(
        shutter=t,
        iso=iso,
        frames=1,
        interval=t + GAP_SECONDS,
        figures=[("Band against noise, a pixel", f"{one:.1f}"), (f"Frames for {o['snr']:g}", f"{wanted}")],
        reasons=[
            f"A single frame shows the band {one:.1f} times above the noise of a pixel; reduced to 1080 px "
            "wide it gains "
            f"{b.lens.width / 1080:.1f} times."
        ],
    )


@mode(
    "arch",
    "Panorama of the arch",
    Option("each", "Frames at each place", 3, 1, 30),
    Option("turn", "Seconds to turn", 8, 1, 60),
    place=30,
    of_the_band=True,
)
def arch(b: Basis, o: dict[str, float]) -> ModePlan:
    """A panorama of the arch in upright frames, from one foot to the other."""
    t, iso, _ = usual(b)
    w, h = field_of_view(b.lens, True)
    top = float(position(b.site, year_of(b.unix), np.array([b.unix]), ARCH)[0][0])
    columns = int(np.ceil((180 + 20 - w) / (w * (1 - OVERLAP)))) + 1
    rows = max(int(np.ceil((top + 25 - h) / (h * (1 - OVERLAP)))) + 1, 1)
    n = columns * rows * int(o["each"])
    seconds = n * (t + GAP_SECONDS) + columns * rows * o["turn"]
    moved = seconds * SIDEREAL_ARCSEC / 3600
    reasons = [
        f"The arch's top stands {top:.0f}° high; upright frames of {w:.0f}° × {h:.0f}° with "
        f"{100 * OVERLAP:.0f} % overlap need "
        f"{columns} columns and {rows} row{'s' if rows > 1 else ''}.",
        f"It takes {seconds / 60:.0f} min, in which the sky turns {moved:.1f}°: start at the foot that "
        "sets, top row first.",
    ]
    if top > 65:
        reasons.append(
            "So high an arch bends strongly in a panorama: better earlier in the season or the night."
        )
    return ModePlan(
        shutter=t,
        iso=iso,
        frames=n,
        interval=t + GAP_SECONDS + o["turn"] / o["each"],
        figures=[
            ("Columns × rows × frames each", f"{columns} × {rows} × {o['each']:g}"),
            ("Turn between columns", f"{w * (1 - OVERLAP):.0f}°"),
            (
                "Altitude of the rows",
                ", ".join(f"{h * (0.5 - 0.1) + i * h * (1 - OVERLAP):.0f}°" for i in range(rows)),
            ),
            storage(b, n),
        ],
        steps=[
            CardStep("Turn after each column", f"{w * (1 - OVERLAP):.0f}°"),
            CardStep("Columns, rows", f"{columns}, {rows}"),
        ],
        reasons=reasons,
    )


@mode(
    "focus-pair",
    "Near subject and stars, both sharp",
    Option("distance", "Subject at, m", 2, 0.1, 100),
    place=40,
    of_the_band=True,
)
def focus_pair(b: Basis, o: dict[str, float]) -> ModePlan:
    """Stars sharp in one burst, the near subject in one more frame."""
    t, iso, n = usual(b)
    near = hyperfocal(b.lens)
    blur = blur_px(b.lens, o["distance"])
    needed = o["distance"] < near
    reason = (
        f"At {o['distance']:g} m the subject is blurred by {blur:.1f} px while the stars are sharp: "
        "take one more frame focused on it and blend."
        if needed
        else f"At {o['distance']:g} m the subject is sharp together with the stars ({blur:.1f} px of blur): "
        "one focus will do."
    )
    return ModePlan(
        shutter=t,
        iso=iso,
        frames=n + (1 if needed else 0),
        interval=t + GAP_SECONDS,
        figures=[
            ("Hyperfocal distance", f"{near:.1f} m"),
            ("Blur of the subject, focus at infinity", f"{blur:.1f} px"),
        ],
        steps=[CardStep("Then one frame focused at", f"{o['distance']:g} m")] if needed else [],
        reasons=[reason],
    )


@mode(
    "lamp",
    "Lamp-lit ground",
    Option("distance", "Lamp to ground, m", 8, 0.3, 200),
    Option("lumen", "Lamp, lm (dimmed)", 3, 0.1, 20000),
    Option("cone", "Its cone, °", 60, 5, 180),
    place=50,
    of_the_band=True,
)
def lamp(b: Basis, o: dict[str, float]) -> ModePlan:
    """Seconds of lamp for the ground in one of the frames, by the inverse square of its distance."""
    t, iso, n = usual(b)
    candela = o["lumen"] / (2 * np.pi * (1 - np.cos(np.radians(o["cone"] / 2))))
    luminance = candela / o["distance"] ** 2 * GROUND_REFLECTANCE * 2 / np.pi
    seconds = LAMP_METER * b.lens.aperture**2 / (luminance * iso) * 2**-LAMP_UNDER
    hint = (
        "count it evenly while you sweep"
        if seconds >= 1
        else "too short to count: dim the lamp, cover it with paper, or stand farther off"
    )
    return ModePlan(
        shutter=t,
        iso=iso,
        frames=n,
        interval=t + GAP_SECONDS,
        figures=[
            ("Light on", f"{seconds:.2g} s"),
            ("Light on at twice the distance", f"{4 * seconds:.2g} s"),
            ("Lamp's intensity", f"{candela:.0f} cd"),
            ("Colour to choose", "about 4000 K, near the sky's balance"),
        ],
        steps=[CardStep("Lamp on in one frame", f"{seconds:.2g} s", StepKind.LAMP, float(f"{seconds:.2g}"))],
        reasons=[
            f"{o['lumen']:g} lm over {o['cone']:g}° at {o['distance']:g} m and ISO {iso} light a ground "
            f"of {200 * GROUND_REFLECTANCE:.0f} % reflectance to {LAMP_UNDER:g} EV under mid grey in "
            f"{seconds:.2g} s; {hint}. "
            "Good to a factor of two: try it.",
            "A cheap lamp bands and tints: test it on a wall at home. Light from the side, not from the "
            "camera.",
        ],
        cautions=["Never into a face, a windscreen or up at aircraft. Some parks forbid lamps; ask."],
    )


@mode(
    "ground",
    "Separate ground exposure",
    Option("longest", "Longest shutter, s", 30, 1, 600),
    Option("snr", "Wanted signal to noise", 3, 0.5, 50),
    place=60,
    of_the_band=True,
)
def ground(b: Basis, o: dict[str, float]) -> ModePlan:
    """A separate, longer exposure of the ground, to be joined along the horizon."""
    t, iso, n = usual(b)
    mag = b.at.brightness - 2.5 * np.log10(GROUND_REFLECTANCE)
    rate = photons.sky_rate(b.lens, float(mag))
    longest = min(b.lens.shutter_max, o["longest"])
    one = photons.snr(b.lens, rate * 0.5, rate * 0.5, longest, iso)
    frames = max(int(np.ceil((o["snr"] / max(one, 1e-6)) ** 2)), 1)
    return ModePlan(
        shutter=t,
        iso=iso,
        frames=n + frames,
        interval=t + GAP_SECONDS,
        figures=[
            ("Ground frames", f"{frames} of {longest:g} s"),
            ("Ground's brightness", f"{mag:.1f} mag/arcsec² (reflectance {GROUND_REFLECTANCE:g})"),
            ("Signal to noise of its texture", f"{one * np.sqrt(frames):.1f}"),
            ("Takes", f"{frames * (longest + GAP_SECONDS) / 60:.0f} min more"),
        ],
        steps=[CardStep("Then for the ground, tripod untouched", f"{frames} × {longest:g} s")],
        reasons=[
            f"Nothing on the ground moves, so its frames may be {longest:g} s long: the longest this lens "
            "gives."
        ],
    )
