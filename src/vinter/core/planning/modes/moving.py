"""Modes that draw or follow the motion of the sky: trails, time-lapse, tracker."""

import numpy as np

from vinter.core.camera.accessories import Tracker
from vinter.core.camera.frame_count import GAP_SECONDS
from vinter.core.camera.shutter import USES
from vinter.core.constants import SIDEREAL_ARCSEC
from vinter.core.planning.modes.basis import (
    DAWN,
    Basis,
    CardStep,
    ModePlan,
    Option,
    Shows,
    before_dawn,
    mode,
    sky_fitting_iso,
    storage,
    usual,
    worst_trail,
)
from vinter.core.words import spoken_about

STAR_WIDTH = 2.7  # px, FWHM of a sharp star
VIDEO_MBIT = 45.0  # megabits per second of 4K video

HOURS = Option("hours", "Hours", 1.5, 0.1, 14)


@mode(
    "trails",
    "Star trails",
    HOURS,
    Option("gap", "Gap between frames, s", 1, 0, 60),
    DAWN,
    place=70,
    sequence=True,
    gear=("power",),
    on_cloud="light the ground with the lamp: clouds would break the trails",
)
def trails(b: Basis, o: dict[str, float]) -> ModePlan:
    """Star trails: many frames with gaps too short to see."""
    longest = b.lens.shutter_max
    gap, drift = o["gap"], b.exposure.shutter.worst_px_s
    n = int(np.ceil(o["hours"] * 3600 / ((b.own.shutter or longest) + gap)))
    set_to = b.settled(longest, sky_fitting_iso(b, b.own.shutter or longest, 0.10), n)
    t = set_to.shutter
    ending = before_dawn(b, set_to.frames, t + gap, t, set_to.iso, o["dawn"] > 0)
    n = ending.frames
    dash, hours = gap * drift, n * (t + gap) / 3600
    visible = dash > STAR_WIDTH / 2
    longest_gap = STAR_WIDTH / 2 / drift
    reasons = [
        *set_to.words,
        *ending.words,
        f"In {gap:g} s a star in the {b.exposure.shutter.worst_place} moves {dash:.1f} px; gaps show from "
        f"half a star's width, {STAR_WIDTH / 2:.1f} px, so the line "
        f"{'breaks into dashes' if visible else 'holds'}. The gap may be {longest_gap:.1f} s at most.",
        f"{n} frames in {hours:.2g} h draw arcs of {SIDEREAL_ARCSEC * hours:.0f}°.",
        f"ISO {set_to.iso}: the brightest sample of every pixel is kept, so the sky must stay dark in each.",
    ]
    if visible:
        reasons.append(
            "Turn off everything the phone does between frames (RAW beside JPEG, noise reduction), or let "
            "the stacker close the gaps."
        )
    return ModePlan(
        shutter=t,
        iso=set_to.iso,
        frames=n,
        interval=t + gap,
        figures=[
            ("Frames", f"{n} of {t:g} s"),
            ("Gap in the worst corner", f"{dash:.1f} px, {'dashes' if visible else 'no dashes'}"),
            ("Arc", f"{SIDEREAL_ARCSEC * hours:.0f}°"),
            storage(b, n),
        ],
        steps=[CardStep("Gap between frames, at most", f"{longest_gap:.1f} s")],
        reasons=reasons,
        cautions=[*ending.cautions, "Hours in the cold: battery, dew on the lens, and you."],
        trail="drawn out on purpose",
    )


@mode(
    "timelapse",
    "Time-lapse",
    HOURS,
    Option("interval", "Interval, s", 15, 1, 600),
    Option("fps", "Frames a second", 25, 5, 60),
    DAWN,
    place=80,
    shows=Shows.FRAME,
    sequence=True,
    gear=("power",),
    on_cloud="let it run: moving cloud is part of the film",
)
def timelapse(b: Basis, o: dict[str, float]) -> ModePlan:
    """A time-lapse: how the night becomes seconds."""
    t, iso, _ = usual(b)
    interval = max(o["interval"], t + GAP_SECONDS)
    set_to = b.settled(t, iso, int(np.ceil(o["hours"] * 3600 / interval)))
    ending = before_dawn(b, set_to.frames, interval, t, iso, o["dawn"] > 0)
    n = ending.frames
    hours, clip = n * interval / 3600, n / o["fps"]
    wished = o["interval"] < interval
    return ModePlan(
        shutter=t,
        iso=iso,
        frames=n,
        interval=interval,
        figures=[
            ("Frames", f"{n}, one every {interval:g} s"),
            ("Clip", f"{clip:.0f} s at {o['fps']:g} frames a second"),
            ("Sped up", f"{interval * o['fps']:.0f} ×"),
            ("Sky moves between frames", f"{interval * b.exposure.shutter.drift_px_s:.0f} px"),
            storage(b, n),
            ("Clip as 4K video, about", f"{clip * VIDEO_MBIT / 8:.0f} MB"),
        ],
        steps=[
            CardStep("Interval", f"{interval:g} s"),
            CardStep("Everything fixed", "focus, ISO, white balance"),
        ],
        reasons=[
            *set_to.words,
            *ending.words,
            f"{hours:.2g} h at one frame every {interval:g} s give {clip:.0f} s of film. "
            "Fix the white balance, or the clip flickers in colour.",
            *(
                [
                    f"An interval of {o['interval']:g} s is too short: the frame takes {t:g} s and the phone "
                    f"{GAP_SECONDS:g} s."
                ]
                if wished
                else []
            ),
        ],
        cautions=ending.cautions,
        trail=worst_trail(b, t),
    )


@mode(
    "tracked",
    "On a star tracker",
    Option("alignment", "Pole missed by, ′", 20, 0.5, 300),
    Option("periodic", "Periodic error, ″", 40, 0, 600),
    Option("payload", "It carries, g", 1000, 50, 20000),
    Option("mass", "Phone and clamp, g", 350, 50, 5000),
    Option("minutes", "Minutes in all", 30, 1, 300),
    place=90,
    gear=("tracker",),
)
def tracked(b: Basis, o: dict[str, float]) -> ModePlan:
    """On a star tracker: minutes instead of seconds, as far as polar alignment and lens carry."""
    tracker = Tracker(o["payload"], o["alignment"], o["periodic"])
    tolerance = USES[b.use].tolerance_px
    limit = tracker.longest(b.lens, tolerance)
    best = max(float(np.floor(min(limit, b.lens.shutter_max))), min(1.0, b.lens.shutter_max))
    lasts = b.own.shutter or best
    n = max(int(np.ceil(o["minutes"] * 60 / (lasts + GAP_SECONDS))), 1)
    set_to = b.settled(best, sky_fitting_iso(b, lasts, 0.12), n)
    t, n = set_to.shutter, set_to.frames
    standing = b.exposure.shutter.tolerance_px / b.exposure.shutter.worst_px_s
    cautions = (
        []
        if tracker.carries(o["mass"])
        else [f"The tracker carries {o['payload']:g} g; phone and clamp weigh {o['mass']:g} g."]
    )
    ends = (
        f"the lens ends at {b.lens.shutter_max:g} s"
        if limit > b.lens.shutter_max
        else "the alignment ends it"
    )
    return ModePlan(
        shutter=t,
        iso=set_to.iso,
        frames=n,
        interval=t + GAP_SECONDS,
        figures=[
            ("Longest shutter by the alignment", spoken_about(limit)),
            ("Frames", f"{n} of {t:g} s"),
            (
                "Light of a frame, against a standing tripod's",
                f"{t / min(standing, b.lens.shutter_max):.1f} ×",
            ),
            storage(b, n),
        ],
        steps=[
            CardStep("Align to the pole, error under", f"{o['alignment']:g}′"),
            CardStep("Ground", "a separate frame, tracker off"),
        ],
        reasons=[
            *set_to.words,
            f"With {o['alignment']:g}′ of misalignment and {o['periodic']:g}″ of periodic error "
            f"stars stay within {tolerance:g} px for {spoken_about(limit)}; {ends}. The ground smears, so "
            "take it apart.",
        ],
        cautions=cautions,
        trail=f"tracked: stars within {tracker.trail_px(b.lens, t):.1f} px",
    )
