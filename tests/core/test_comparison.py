"""Two pictures at the same angle: figures by hand."""

import numpy as np
import pytest

from vinter.core.frames.comparison import Value, differences, quality, scale_of


def test_a_scale_is_that_of_the_focal_length_or_of_the_solved_field():
    # 24 mm over a diagonal of 43.27 mm: a diagonal of 84.1 degrees, so 5040 px of diagonal have f = 2795.5 px
    scale, said = scale_of((4032, 3024), 24.0)
    assert (
        scale.value == pytest.approx(206265 / 2795.5, rel=1e-3)
        and 0 < scale.error < 0.05 * scale.value
        and "24 mm" in said
    )
    assert scale_of((4032, 3024), 24.0, 73.7) == (
        Value(73.7, pytest.approx(0.147, abs=0.01)),
        "solved from the stars",
    )
    unknown, said = scale_of((4032, 3024), None)
    assert unknown.error > 0.2 * unknown.value and "names none" in said


def seen(scale, fwhm=3.0, noise=0.002, frames=1):
    return quality((4000, 3000), Value(scale, 0.01 * scale), "", fwhm, noise, 0.02, 1200, True, frames)


def test_figures_do_not_depend_on_how_finely_the_same_sky_is_sampled():
    coarse = seen(80.0)
    # twice as fine: stars twice as many pixels wide, a quarter of the light and with it half the noise a
    # pixel, against a quarter of the level: noise over level doubles, and a patch of sky has four times as
    # many pixels
    fine = quality((8000, 6000), Value(40.0, 0.4), "", 6.0, 0.001, 0.005, 1200, True)
    assert fine.width.value == pytest.approx(coarse.width.value) and fine.grain.value == pytest.approx(
        coarse.grain.value
    )
    assert fine.density == pytest.approx(coarse.density) and coarse.width.value == pytest.approx(4.0)
    assert coarse.grain.value == pytest.approx(0.1 / np.sqrt(0.5 * 7.5**2))
    words = " ".join(differences(coarse, fine))
    assert (
        words.count("alike within the errors") == 2 and "The right one has 2.00 times as many pixels" in words
    )


def test_what_differs_beyond_the_errors_is_said_with_its_error():
    one, many = seen(80.0), seen(80.0, noise=0.0005, frames=16)
    assert any(
        "The sky in the right one is 4.00 times smoother, angle for angle (± 0.28)" in t
        for t in differences(one, many)
    )
    assert any("4.00 times grainier" in t for t in differences(many, one))
    assert any(
        "The stars in the right one are 2.00 times wider" in t for t in differences(one, seen(80.0, fwhm=6.0))
    )
