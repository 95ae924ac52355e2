"""The report as drawings: every mark lies where its number says, and nothing is drawn of what is not
known."""

import math
import re
from itertools import pairwise

import pytest
from django.template.loader import render_to_string

from vinter.web.stacks.drawing import HEIGHT, NOISE, WIDTH, drawn


def row(i, **more):
    return {
        "file": f"IMG_{i}.dng",
        "used": True,
        "reason": "",
        "residual_px": 0.1 + 0.01 * i,
        "stars": 300,
        "fwhm_px": 3.0 + 0.1 * i,
        **more,
    }


def beside(i, **more):
    return {
        "file": f"IMG_{i}.dng",
        "group": 0,
        "ground_px": None,
        "ground_shift": None,
        "light": 1.0,
        "background_shift": 0.0,
        "weight": 1.0,
        **more,
    }


def report(n=4, rows=None, shifts=None, noise=None):
    return {
        "frames": rows or [row(i) for i in range(n)],
        "fwhm_stack": 3.1,
        "noise_by_count": noise or [],
        "method": "clip",
        "tripod": {
            "frames": shifts or [beside(i) for i in range(n)],
            "held_px": 0.7,
            "held": True,
            "groups": 1,
            "most_px": 0.5,
            "error_px": 0.2,
            "looked_at": 3,
        },
    }


def test_bars_stand_side_by_side_and_are_as_high_as_their_numbers():
    shown = drawn(report(5))
    for strip, values in (("residual", [0.1, 0.11, 0.12, 0.13, 0.14]), ("widths", [3.0, 3.1, 3.2, 3.3, 3.4])):
        bars, most = shown[strip]["bars"], shown[strip]["most"]
        assert most == max(values)
        assert [b["height"] for b in bars] == pytest.approx([HEIGHT * v / most for v in values], abs=0.06)
        assert all(b["y"] + b["height"] == pytest.approx(HEIGHT, abs=0.11) for b in bars)
        assert all(a["x"] + a["width"] <= b["x"] for a, b in pairwise(bars))
        assert bars[0]["x"] >= 0 and bars[-1]["x"] + bars[-1]["width"] <= WIDTH
    assert shown["stack_y"] == pytest.approx(HEIGHT * (1 - 3.1 / 3.4), abs=0.06)


def test_a_frame_left_out_leaves_a_gap_and_one_that_was_not_read_no_room():
    rows = [
        row(0),
        row(1, used=False, reason="shaken"),
        row(2),
        {"file": "cut.dng", "used": False, "reason": "cut short"},
    ]
    shown = drawn(report(rows=rows))
    step = WIDTH / 3
    assert [round(b["x"] / step - 0.12) for b in shown["residual"]["bars"]] == [0, 2]
    assert len(shown["widths"]["bars"]) == 3 and len(shown["columns"]) == 3


def test_drift_marks_are_the_frames_looked_at_joined_by_a_line():
    known = {0: [0.35, -0.7], 2: [0.0, 0.0], 3: [-1.4, 0.7]}
    shifts = [
        beside(i, ground_shift=known.get(i), ground_px=math.hypot(*known[i]) if i in known else None)
        for i in range(5)
    ]
    shown = drawn(report(5, shifts=shifts))["drift"]
    assert [m["file"] for m in shown["marks"]] == ["IMG_0.dng", "IMG_2.dng", "IMG_3.dng"] and shown[
        "most"
    ] == 1.4
    for mark, i in zip(shown["marks"], known, strict=True):
        assert mark["x"] == pytest.approx((i + 0.5) * WIDTH / 5, abs=0.06)
        assert mark["right"] == pytest.approx(HEIGHT / 2 * (1 - known[i][0] / 1.4), abs=0.06)
        assert mark["down"] == pytest.approx(HEIGHT / 2 * (1 - known[i][1] / 1.4), abs=0.06)
    for key in ("right", "down"):
        points = [tuple(map(float, p.split(","))) for p in shown["lines"][key].split()]
        assert points == [(m["x"], m[key]) for m in shown["marks"]]
    # the band of what counts as still is 0.7 px to both sides of the middle
    assert (shown["band_y"], shown["band"]) == pytest.approx((HEIGHT / 2 - HEIGHT / 4, HEIGHT / 2), abs=0.06)


def test_without_two_known_grounds_light_or_level_nothing_is_drawn_of_them():
    one = [beside(0, ground_shift=[0.0, 0.0], ground_px=0.0), *(beside(i) for i in range(1, 4))]
    shown = drawn(report(shifts=one))
    assert (
        shown["drift"] is None
        and shown["light"] is None
        and shown["level"] is None
        and shown["noise"] is None
    )
    assert shown["breaks"] == []


def test_light_level_and_the_place_of_a_bump_are_drawn_where_they_changed():
    shifts = [
        beside(0),
        beside(1, light=0.5),
        beside(2, group=1, background_shift=0.002),
        beside(3, group=1, background_shift=-0.004),
    ]
    shown = drawn(report(shifts=shifts))
    assert [b["height"] for b in shown["light"]["bars"]] == pytest.approx(
        [HEIGHT / 1.2, HEIGHT * 0.5 / 1.2, *[HEIGHT / 1.2] * 2], abs=0.06
    )
    assert shown["level"]["most"] == pytest.approx(4.0)
    heights = [float(p.split(",")[1]) for p in shown["level"]["lines"][0].split()]
    assert heights == pytest.approx([HEIGHT / 2, HEIGHT / 2, HEIGHT / 4, HEIGHT], abs=0.06)
    assert shown["breaks"] == [WIDTH / 2]


def test_noise_that_falls_as_the_root_lies_on_the_dashed_line():
    noise = [(n, 0.004 / math.sqrt(n)) for n in (2, 4, 8, 16)]
    shown = drawn(report(noise=noise))["noise"]
    (x0, y0), (x1, y1) = shown["ideal"]
    for p, (n, value) in zip(shown["points"], noise, strict=True):
        assert p["gain"] == pytest.approx(math.sqrt(n)) and p["per_mille"] == pytest.approx(1000 * value)
        assert p["y"] == pytest.approx(y0 + (p["x"] - x0) / (x1 - x0) * (y1 - y0), abs=0.2)
        assert 0 <= p["x"] <= NOISE[0] and 0 <= p["y"] <= NOISE[1] - 25
    # doubling the frames is always the same step to the right
    steps = [b["x"] - a["x"] for a, b in pairwise(shown["points"])]
    assert steps == pytest.approx([steps[0]] * 3, abs=0.2)


def page(**more):
    told = report(3, shifts=[beside(i, ground_shift=[0.1 * i, 0.0], ground_px=0.1 * i) for i in range(3)])
    told["tripod"] |= more
    return re.sub(r"\s+", " ", render_to_string("stacks/report.html", {"report": told, "drawn": drawn(told)}))


def test_the_page_says_with_its_error_whether_the_tripod_held():
    held = "the corners of the ground lie within 0.5 px of the reference's in the 3 frames that were compared"
    assert f"The tripod held: {held}, no more than comparing them can tell apart." in page()
    assert "The ground moved by up to 4.0 ± 0.2 px: the tripod slipped" in page(held=False, most_px=4.0)
    assert "The tripod was knocked: 2 tripod positions." in page(held=False, groups=2)
    unseen = page(looked_at=0, held=None)
    assert "whether the tripod held is not known" in unseen and "The tripod held" not in unseen
    assert "IMG_1.dng: ground moved 0.10 px, 0.10 right and 0.00 down" in page()
