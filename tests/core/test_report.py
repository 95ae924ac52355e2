"""What a stack's report may claim: no tripod that nobody looked at, no noise below what chance allows."""

from types import SimpleNamespace
from unittest.mock import Mock

import numpy as np
import pytest

from vinter.core.stack.combining.methods import Method
from vinter.core.stack.foreground.alignment import CameraShift
from vinter.core.stack.options import Options
from vinter.core.stack.photometry.normalization import Normalization
from vinter.core.stack.registration.star_matching import Alignment
from vinter.core.stack.report import REPORT, build, of_frames


def burst(count, groups=1):
    frames = [
        SimpleNamespace(
            path=SimpleNamespace(name=f"{i}.dng"),
            measure=Mock(stars=9, fwhm_px=3.0, place=None),
            time=None,
            error="",
        )
        for i in range(count)
    ]
    registration = SimpleNamespace(
        reference=0,
        alignments=[Alignment(True, "") for _ in range(count)],
        model=None,
        loose=False,
        groups=SimpleNamespace(number=[i % groups for i in range(count)]),
    )
    return frames, registration


def tripod(shifts, count=4, groups=1):
    frames, registration = burst(count, groups)
    return of_frames(frames, registration, shifts, [Normalization() for _ in range(count)])["tripod"]


def test_a_tripod_is_called_held_only_of_frames_that_were_compared():
    unknown = {0: CameraShift(), **{i: CameraShift(known=False) for i in (1, 2, 3)}}
    assert (tripod(unknown)["held"], tripod(unknown)["looked_at"]) == (None, 0)
    assert (tripod({})["held"], tripod({})["most_px"]) == (None, None)
    still = {0: CameraShift(), 1: CameraShift(moved_px=0.3), 2: CameraShift(known=False)}
    assert (tripod(still)["held"], tripod(still)["looked_at"]) == (True, 1)
    moved = {0: CameraShift(), 1: CameraShift(moved_px=5.0, error_px=0.2)}
    assert (tripod(moved)["held"], tripod(moved)["most_px"]) == (False, 5.0)
    assert tripod(unknown, groups=2)["held"] is False  # the stars say that it was knocked


@pytest.mark.parametrize(("gain", "said"), [(2.2, 2.0), (1.7, 1.7)])
def test_noise_never_falls_by_more_than_the_root_of_the_frames(gain, said):
    frames, registration = burst(4)
    tiles = [SimpleNamespace(single_noise=1.0, stack_noise=1 / gain)]
    report = build(
        frames,
        [],
        registration,
        Options(method=Method.MEAN),
        tiles,
        (3.0, 3.0),
        np.full((2, 2), 255, np.uint8),
    )
    assert report["noise_gain"] == pytest.approx(said) and report["noise_expected"] == 2.0


def test_reports_of_older_versions_claim_no_more_than_todays():
    old = {
        "version": 2,
        "noise_gain": 3.4,
        "noise_expected": 3.0,
        "tripod": {"held": True, "looked_at": 1, "groups": 1},
        "field": {"width": 4000, "height": 3000, "focal_px": 2500.0},
        "falloff": {"corner": -0.4, "corner_error": 0.06, "significant": False, "taken_out": False},
    }
    now = REPORT.current(old)
    assert now["noise_gain"] == 3.0 and now["tripod"]["held"] is None and now["tripod"]["looked_at"] == 0
    # half the diagonal is as long as the lens: 45 degrees
    assert now["corners"]["corner"] == pytest.approx(-0.4 + 7.5 * np.log10(np.sqrt(2)))
    assert now["corners"]["significant"] and now["corners"]["starlight"] == -0.4
    assert "falloff" not in now
