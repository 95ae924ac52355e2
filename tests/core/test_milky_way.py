"""Stars and the band: counts against the catalogue's own law, colours of known stars, brightness of known
places."""

import numpy as np
import pytest

from vinter.core.sky import galaxy
from vinter.core.sky.catalogue import between_stars, milky_way, star_table, stars_to
from vinter.core.sky.targets import band_surface

# Hipparcos V and B-V as printed in any star atlas
KNOWN = {
    "Sirius": (101.287, -16.716, -1.44, 0.01),
    "Vega": (279.235, 38.784, 0.03, 0.0),
    "Arcturus": (213.915, 19.182, -0.05, 1.24),
    "Betelgeuse": (88.793, 7.407, 0.45, 1.5),
    "Antares": (247.352, -26.432, 1.06, 1.86),
    "Rigel": (78.634, -8.202, 0.18, -0.03),
    "Altair": (297.696, 8.868, 0.76, 0.22),
    "Aldebaran": (68.980, 16.509, 0.87, 1.54),
    "Spica": (201.298, -11.161, 0.98, -0.24),
    "Barnard's star": (269.449, 4.739, 9.54, 1.57),
}


@pytest.mark.parametrize("name", KNOWN)
def test_ten_known_stars_have_their_magnitude_and_colour(name):
    ra, dec, v0, bv0 = KNOWN[name]
    vectors, v, bv = star_table()
    away = np.degrees(np.arccos(np.clip(vectors @ galaxy.unit(ra, dec), -1, 1)))
    near = np.flatnonzero((away < 0.02) & (np.abs(v - v0) < 0.6))
    assert len(near), name
    star = near[np.argmin(np.abs(v[near] - v0))]
    # a measured star; the red dwarf's come from the survey's colours
    assert abs(v[star] - v0) < (0.25 if v0 < 8 else 0.35) and abs(bv[star] - bv0) < 0.15


def test_stars_are_whole_to_the_tenth_magnitude():
    _, v, bv = star_table()
    assert len(v) > 480_000 and (np.diff(v) >= 0).all()
    # numbers of stars brighter than a magnitude, over the whole sky (Allen's tables)
    for faintest, count in ((2.0, 48), (4.0, 510), (6.0, 4900), (8.0, 42_000), (9.0, 121_000)):
        assert len(stars_to(faintest)[1]) == pytest.approx(count, rel=0.16), faintest
    assert np.percentile(bv, 5) < 0.1 and np.percentile(bv, 95) > 1.3


def test_known_places_of_the_band_have_their_brightness():
    light = milky_way()[0].values
    rows, columns = light.shape

    def surface(l, b, radius=1.5):
        cell = 180 / rows
        bb = 90 - (np.arange(rows) + 0.5) * cell
        ll = (np.arange(columns) + 0.5) * cell - 180
        gb, gl = np.meshgrid(bb, ll, indexing="ij")
        near = ((gb - b) ** 2 + (((gl - l + 180) % 360 - 180) * np.cos(np.radians(b))) ** 2) < radius**2
        return (20.7233 - np.log(light[near].mean() / 34.08)) / 0.92104

    for l, b, known in (
        (3.0, -3.5, 21.0),
        (12.8, -1.5, 21.1),
        (27.0, -2.5, 21.15),
        (41.0, -3.5, 21.75),
        (73.0, 2.0, 21.4),
        (118.0, -2.0, 22.2),
        (180.0, 0.0, 22.8),
        (-115.0, -2.5, 22.2),
        (-73.5, -1.0, 21.0),
        (-48.0, 0.0, 21.6),
        (-29.0, -3.0, 21.3),
    ):
        assert abs(surface(l, b) - known) < 0.2, (l, b, surface(l, b))
    # dark clouds stand out of what is beside them: the rift in Aquila, the Pipe, the Coalsack
    for dark, bright in (
        ((28.0, 3.5), (28.0, -3.0)),
        ((0.0, 5.0), (0.0, -4.0)),
        ((-57.0, -0.5), (-50.0, -0.5)),
    ):
        assert surface(*dark, 1.0) > surface(*bright, 1.0) + 0.4
    # and the clouds of Magellan are there, far from the band
    assert surface(-79.5, -32.9, 1.0) < surface(-79.5, -42.0, 1.0) - 0.5
    assert band_surface(0) < 21.1 < band_surface(180)


def test_what_is_between_the_stars_is_less_than_all():
    total = milky_way()[0].values
    rest, red = (grid.values for grid in between_stars())
    assert (rest <= total + 0.11).all() and 0.2 < rest.sum() / total.sum() < 0.95
    row, column = int((90 + 0.6) / 0.1), int((287.6 - 360 + 180) / 0.1)  # the great nebula in the keel is red
    assert red[row - 4 : row + 5, column - 4 : column + 5].max() > 60 and np.median(red) == 0
