"""Modes that draw or follow the motion of the sky: trails, time-lapse, tracker."""

import numpy as np

from vinter.core.camera.accessories import Tracker
from vinter.core.camera.exposure import GAP_SECONDS, USES
from vinter.core.constants import SIDEREAL_ARCSEC
from vinter.core.modes.basis import Basis, CardStep, ModePlan, Option, mode, sky_fitting_iso, storage, usual

STAR_WIDTH = 2.7  # px, FWHM of a sharp star
VIDEO_MBIT = 45.0  # megabits per second of 4K video

HOURS = Option("hours", "Hours", 1.5, 0.1, 14)


@mode("trails", "Star trails", HOURS, Option("gap", "Gap between frames, s", 1, 0, 60), place=70)
def trails(b: Basis, o: dict[str, float]) -> ModePlan:
    """Star trails: many frames with gaps too short to see."""
    t = b.lens.shutter_max
    iso = sky_fitting_iso(b, t, 0.10)
    gap, drift = o["gap"], b.exposure.shutter.worst_px_s
    dash = gap * drift
    n = int(np.ceil(o["hours"] * 3600 / (t + gap)))
    visible = dash > STAR_WIDTH / 2
    longest_gap = STAR_WIDTH / 2 / drift
    reasons = [
        f"In {gap:g} s a star in the {b.exposure.shutter.worst_place} moves {dash:.1f} px; gaps show from "
        "half a star's width, "
        f"{STAR_WIDTH / 2:.1f} px, so the line {'breaks into dashes' if visible else 'holds'}. The gap may "
        f"be {longest_gap:.1f} s at most.",
        f"{o['hours']:g} h draw arcs of {SIDEREAL_ARCSEC * o['hours']:.0f}°.",
    ]
    if visible:
        reasons.append(
            "Turn off everything the phone does between frames (RAW beside JPEG, noise reduction), or let "
            "the stacker close the gaps."
        )
    return ModePlan(
        shutter=t,
        iso=iso,
        frames=n,
        interval=t + gap,
        figures=[
            ("Frames", f"{n}"),
            ("Gap in the worst corner", f"{dash:.1f} px, {'dashes' if visible else 'no dashes'}"),
            ("Arc", f"{SIDEREAL_ARCSEC * o['hours']:.0f}°"),
            storage(b, n),
        ],
        steps=[CardStep("Gap between frames, at most", f"{longest_gap:.1f} s")],
        reasons=reasons,
        cautions=["Hours in the cold: battery, dew on the lens, and you."],
    )


@mode(
    "timelapse",
    "Time-lapse",
    HOURS,
    Option("interval", "Interval, s", 15, 1, 600),
    Option("fps", "Frames a second", 25, 5, 60),
    place=80,
)
def timelapse(b: Basis, o: dict[str, float]) -> ModePlan:
    """A time-lapse: how the night becomes seconds."""
    t, iso, _ = usual(b)
    interval = max(o["interval"], t + GAP_SECONDS)
    n = int(np.ceil(o["hours"] * 3600 / interval))
    clip = n / o["fps"]
    return ModePlan(
        shutter=t,
        iso=iso,
        frames=n,
        interval=interval,
        figures=[
            ("Frames", f"{n}"),
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
            f"{o['hours']:g} h at one frame every {interval:g} s give {clip:.0f} s of film. "
            "Fix the white balance, or the clip flickers in colour."
        ],
    )


@mode(
    "tracked",
    "On a star tracker",
    Option("alignment", "Pole missed by, ′", 20, 0.5, 300),
    Option("periodic", "Periodic error, ″", 40, 0, 600),
    Option("payload", "It carries, g", 1000, 50, 20000),
    Option("mass", "Phone and clamp, g", 350, 50, 5000),
    Option("longest", "Longest the phone allows, s", 60, 1, 3600),
    Option("minutes", "Minutes in all", 30, 1, 300),
    place=90,
)
def tracked(b: Basis, o: dict[str, float]) -> ModePlan:
    """On a star tracker: minutes instead of seconds, as far as the polar alignment carries."""
    tracker = Tracker(o["payload"], o["alignment"], o["periodic"])
    limit = tracker.longest(b.lens, USES[b.use].tolerance_px)
    t = float(np.floor(min(limit, o["longest"])))
    iso = sky_fitting_iso(b, t, 0.12)
    n = max(int(np.ceil(o["minutes"] * 60 / (t + GAP_SECONDS))), 1)
    cautions = (
        []
        if tracker.carries(o["mass"])
        else [f"The tracker carries {o['payload']:g} g; phone and clamp weigh {o['mass']:g} g."]
    )
    return ModePlan(
        shutter=t,
        iso=iso,
        frames=n,
        interval=t + GAP_SECONDS,
        figures=[
            ("Longest shutter by the alignment", f"{limit:.0f} s"),
            ("Frames", f"{n} of {t:.0f} s"),
            ("Light against untracked frames", f"{t / b.exposure.shutter.chosen:.0f} × a frame"),
        ],
        steps=[
            CardStep("Align to the pole, error under", f"{o['alignment']:g}′"),
            CardStep("Ground", "a separate frame, tracker off"),
        ],
        reasons=[
            f"With {o['alignment']:g}′ of misalignment and {o['periodic']:g}″ of periodic error "
            f"stars stay within {USES[b.use].tolerance_px:g} px for {limit:.0f} s; the ground smears, so "
            "take it "
            "apart."
        ],
        cautions=cautions,
    )
