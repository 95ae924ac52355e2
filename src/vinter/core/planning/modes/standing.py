"""Modes in which the tripod stands and the sky is the subject: stack, single frame, panorama, and the ground
with it."""

import numpy as np

from vinter.core.camera import photons
from vinter.core.camera.focus import blur_px, hyperfocal
from vinter.core.camera.frame_count import GAP_SECONDS
from vinter.core.camera.iso import iso_stops
from vinter.core.camera.lamp import LAMP_UNDER, candela, lamp_seconds
from vinter.core.camera.projection import Pose
from vinter.core.camera.shutter import USES
from vinter.core.constants import SIDEREAL_ARCSEC
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
from vinter.core.planning.shot import field_of_view
from vinter.core.sky.brightness import phase_dimming, ray_airmass, to_magnitudes, to_nanolamberts
from vinter.core.sky.ephemeris import year_of
from vinter.core.sky.target_track import track
from vinter.core.sky.targets import MOON

OVERLAP = 0.35  # share of a panorama's frame that the next one repeats
GROUND_REFLECTANCE = 0.1
GROUND_BINNING = 4  # pixels of the picture a side, in which ground is judged
ARCH_SPAN = 200.0  # degrees along the horizon from foot to foot, with room
FULL_MOON_MAG, LUX_ZERO = -12.73, 14.18  # V of the full Moon; V of one lux is -14.18
CANDELA_OF_NL = 1e-5 / np.pi  # cd/m^2 in one nanolambert


@mode(
    "stack",
    "Stack of frames",
    Option("automatic", "Compared with an automatic mode of, min", 4, 0.5, 20),
    place=10,
    shows=Shows.STACK,
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
            + (f" {int(np.ceil(light / t))} frames would gather as much." if own < 0.9 * light else ""),
        ],
        trail=worst_trail(b, t),
    )


@mode(
    "single",
    "Single frame",
    Option("snr", "Wanted signal to noise", 5, 1, 100),
    place=20,
    shows=Shows.FRAME,
)
def single(b: Basis, o: dict[str, float]) -> ModePlan:
    """One frame, as good as one frame gets."""
    t, iso, _ = usual(b)
    band = photons.sky_rate(b.lens, b.band_mag)
    one = photons.snr(b.lens, band, photons.sky_rate(b.lens, b.at.brightness), t, iso)
    output = USES[b.use].output_px
    seen = one * max(b.lens.width / output, 1.0)
    wanted = int(np.ceil((o["snr"] / seen) ** 2))
    return ModePlan(
        shutter=t,
        iso=iso,
        frames=1,
        interval=t + GAP_SECONDS,
        figures=[
            ("Target against noise, a pixel of the frame", f"{one:.1f}"),
            (f"The same, a pixel of {output} across", f"{seen:.1f}"),
            (f"Frames for {o['snr']:g} times", f"{wanted}"),
        ],
        reasons=[
            *([] if b.own.frames in (None, 1) else ["A single frame is one frame: for more, plan a stack."]),
            f"A single frame shows the target {one:.1f} times above the noise of a pixel, {seen:.1f} "
            f"times in a picture {output} px across."
            + (" One frame will hardly show it: plan a stack." if seen < HARDLY else ""),
        ],
        trail=worst_trail(b, t),
    )


@mode(
    "arch",
    "Panorama of the arch",
    Option("each", "Frames at each place", 3, 1, 30),
    Option("turn", "Seconds to turn", 8, 1, 60),
    place=30,
    shows=Shows.FRAME,
    target="arch",
    upright=True,
)
def arch(b: Basis, o: dict[str, float]) -> ModePlan:
    """A panorama of the arch in upright frames, from the foot that sets to the other."""
    t, iso, _ = usual(b)
    w, h = field_of_view(b.lens, True)
    top, middle = b.at.altitude, b.at.azimuth
    across, up = w * (1 - OVERLAP), h * (1 - OVERLAP)
    columns = int(np.ceil((ARCH_SPAN - w) / across)) + 1
    rows = max(int(np.ceil((top + 25 - h) / up)) + 1, 1)
    n = columns * rows * int(o["each"])
    seconds = n * (t + GAP_SECONDS) + columns * rows * o["turn"]
    moved = seconds * SIDEREAL_ARCSEC / 3600
    altitudes = [h * (0.5 - 0.1) + i * up for i in range(rows)]
    ends = [(middle + side * (columns - 1) / 2 * across) % 360 for side in (-1, 1)]
    start = min(ends, key=lambda azimuth: abs((azimuth - 270 + 180) % 360 - 180))
    way = "right" if start == ends[0] else "left"
    reasons = [
        f"The arch's top stands {top:.0f}° high; upright frames of {w:.0f}° × {h:.0f}° with "
        f"{100 * OVERLAP:.0f} % overlap need "
        f"{columns} columns and {rows} row{'s' if rows > 1 else ''}.",
        *(
            [f"The count follows from the places: {n} frames; set how many at each of them."]
            if b.own.frames not in (None, n)
            else []
        ),
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
            ("Turn between columns", f"{across:.0f}°"),
            (
                "Altitude of the rows",
                ", ".join(f"{a:.0f}°" for a in altitudes),
            ),
            ("First column at azimuth", f"{start:.0f}°, then to the {way}; top row first"),
            storage(b, n),
        ],
        steps=[
            CardStep("Turn after each column", f"{across:.0f}° to the {way}"),
            CardStep("Columns, rows", f"{columns}, {rows}"),
        ],
        reasons=reasons,
        trail=worst_trail(b, t),
        pose=Pose(round(start, 1), round(min(altitudes[-1], 90.0), 1)),
        sweep=ARCH_SPAN,
    )


@mode(
    "focus-pair",
    "Near subject and stars, both sharp",
    Option("distance", "Subject at, m", 2, 0.1, 100),
    needs_ground=True,
    place=40,
    shows=Shows.STACK,
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
        frames=n,
        interval=t + GAP_SECONDS,
        figures=[
            ("Hyperfocal distance", f"{near:.1f} m"),
            ("Blur of the subject, focus at infinity", f"{blur:.1f} px"),
        ],
        steps=[CardStep("Then one frame focused at", f"{o['distance']:g} m")] if needed else [],
        reasons=[reason],
        trail=worst_trail(b, t),
        more_seconds=t + GAP_SECONDS if needed else 0.0,
    )


HARDLY = 2.0  # signal to noise in the finished picture under which a single frame hardly shows a target
LAMP_SHARE = 0.8  # share of a frame's shutter that the lamp is on: time to switch it


@mode(
    "lamp",
    "Lamp-lit ground",
    Option("distance", "Lamp to ground, m", 8, 0.3, 200),
    Option("lumen", "Lamp, lm (dimmed)", 3, 0.1, 20000),
    Option("cone", "Its cone, °", 60, 5, 180),
    needs_ground=True,
    place=50,
    gear=("lamp",),
    shows=Shows.STACK,
)
def lamp(b: Basis, o: dict[str, float]) -> ModePlan:
    """Seconds of lamp for the ground in one of the frames, by the inverse square of its distance."""
    t, iso, n = usual(b)
    intensity = candela(o["lumen"], o["cone"])
    at_sky_iso = lamp_seconds(b.lens, iso, intensity, o["distance"], 2 * GROUND_REFLECTANCE)
    # the lamp is on within one frame: where it needs longer, that frame has an ISO of its own
    fitting = [i for i in iso_stops(b.lens) if i >= iso and at_sky_iso * iso / i <= LAMP_SHARE * t]
    lit_iso = fitting[0] if fitting else b.lens.iso_top
    seconds = at_sky_iso * iso / lit_iso
    lacks = seconds / (LAMP_SHARE * t)
    seconds = min(seconds, t)
    own_frame = [CardStep("ISO of the frame with the lamp", f"{lit_iso}")] if lit_iso != iso else []
    weak = (
        f" It is too weak for one frame of {t:g} s: {lacks:.1f} times as much light is wanted, or to stand "
        f"{np.sqrt(lacks):.1f} times nearer."
        if lacks > 1
        else ""
    )
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
            ("Lamp's intensity", f"{intensity:.0f} cd"),
            ("Colour to choose", "about 4000 K, near the sky's balance"),
        ],
        steps=[
            *own_frame,
            CardStep("Lamp on in one frame", f"{seconds:.2g} s", StepKind.LAMP, float(f"{seconds:.2g}")),
        ],
        reasons=[
            f"{o['lumen']:g} lm over {o['cone']:g}° at {o['distance']:g} m and ISO {lit_iso} light a ground "
            f"of {200 * GROUND_REFLECTANCE:.0f} % reflectance to {LAMP_UNDER:g} EV under mid grey in "
            f"{seconds:.2g} s; {hint}. "
            f"Good to a factor of two: try it.{weak}",
            "A cheap lamp bands and tints: test it on a wall at home. Light from the side, not from the "
            "camera.",
        ],
        cautions=["Never into a face, a windscreen or up at aircraft. Some parks forbid lamps; ask."],
        trail=worst_trail(b, t),
    )


@mode(
    "ground",
    "Separate ground exposure",
    Option("longest", "Longest shutter, s", 30, 1, 600),
    Option("snr", "Wanted signal to noise", 3, 0.5, 50),
    Option("minutes", "Minutes for the ground, at most", 10, 1, 60),
    needs_ground=True,
    place=60,
    shows=Shows.STACK,
)
def ground(b: Basis, o: dict[str, float]) -> ModePlan:
    """A separate, longer exposure of the ground, to be joined along the horizon."""
    t, iso, n = usual(b)
    moon = moon_on_ground(b)
    light = float(to_nanolamberts(b.at.brightness)) * GROUND_REFLECTANCE + moon
    mag = float(to_magnitudes(light))
    rate = photons.sky_rate(b.lens, mag)
    longest = min(b.lens.shutter_max, o["longest"])
    pixels = max(b.lens.width / USES[b.use].output_px, 1.0) * GROUND_BINNING
    one = photons.snr(b.lens, rate * 0.5, rate * 0.5, longest, iso) * pixels
    wanted = max(int(np.ceil((o["snr"] / max(one, 1e-6)) ** 2)), 1)
    frames = max(min(wanted, int(o["minutes"] * 60 / (longest + GAP_SECONDS))), 1)
    reached = one * float(np.sqrt(frames))
    moonlit = f", {100 * moon / light:.0f} % of it from the Moon" if moon > 0.02 * light else ""
    reasons = [
        f"Nothing on the ground moves, so its frames may be {longest:g} s long"
        + (": the longest this lens gives." if longest >= b.lens.shutter_max else "."),
        f"Counted in {GROUND_BINNING} × {GROUND_BINNING} pixels of the finished picture: ground is seen in "
        "patches, and noise reduction does the same.",
    ]
    if reached < 0.95 * o["snr"]:
        reasons.append(
            f"{frames} frames are all that {o['minutes']:g} min hold; for a signal to noise of "
            f"{o['snr']:g} it "
            f"would take {wanted}. Better: light it with a lamp, or take it in dusk or under the Moon."
        )
    return ModePlan(
        shutter=t,
        iso=iso,
        frames=n,
        interval=t + GAP_SECONDS,
        figures=[
            ("Sky frames, then ground frames", f"{n} of {t:g} s, {frames} of {longest:g} s"),
            (
                "Ground's brightness",
                f"{mag:.1f} mag/arcsec² ± 0.5{moonlit} (reflectance {GROUND_REFLECTANCE:g})",
            ),
            ("Signal to noise of its texture", f"{reached:.1f}"),
            ("Takes", f"{frames * (longest + GAP_SECONDS) / 60:.0f} min more"),
        ],
        steps=[CardStep("Then for the ground, tripod untouched", f"{frames} × {longest:g} s")],
        reasons=reasons,
        trail=worst_trail(b, t),
        more_seconds=frames * (longest + GAP_SECONDS),
    )


def moon_on_ground(b: Basis) -> float:
    """Light of level ground under the direct Moon, nL: its illuminance by phase, height and air (good to a
    fifth), on ``GROUND_REFLECTANCE``; 0 when it is down."""
    now = track(b.site, year_of(b.unix), np.array([b.unix]), MOON)
    height = float(now.alt[0])
    if height <= 0:
        return 0.0
    magnitude = (
        FULL_MOON_MAG
        + float(phase_dimming(float(now.phase[0])))
        + b.site.extinction * float(ray_airmass(height))
    )
    lux = 10 ** (-0.4 * (magnitude + LUX_ZERO)) * np.sin(np.radians(height))
    return float(GROUND_REFLECTANCE * lux / np.pi / CANDELA_OF_NL)
