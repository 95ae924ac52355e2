"""Star trails: pauses closed along the true motion, tails that fade, the ground left alone."""

import numpy as np
import pytest
import tifffile
from inline import Inline
from scipy.ndimage import map_coordinates
from starfield import Field, ground_pattern, horizon, make, places

from vinter.core.errors import BadInput
from vinter.core.stack.pipeline import Settings, stack

SPEC = Field(
    count=4, width=900, height=700, stars=60, focal=620.0, angle=1.1, exposure=110.0, streak=None, noise=25.0
)


@pytest.fixture(scope="module")
def field(tmp_path_factory):
    folder = tmp_path_factory.mktemp("trails")
    return folder, *make(folder, SPEC)


def trails(folder, out, **settings):
    result = stack([folder], out, Settings(method="trails", **settings), pool=Inline())
    return tifffile.imread(result.picture)[..., 1], result.report


def along(picture, rays, flux, moment):
    """Brightness above the sky at the true places of the bright stars at a moment counted in frames, and
    which are in view."""
    xy = places(SPEC, rays, moment)
    x, y = np.clip(xy.T.astype(int), 0, [[SPEC.width - 1], [SPEC.height - 1]])
    fits = (
        (xy > 12).all(axis=1)
        & (xy[:, 0] < SPEC.width - 12)
        & (xy[:, 1] < horizon(SPEC)[x] - 25)
        & (flux > 2500)
    )
    sky = np.array(
        [
            np.median(picture[max(b - 12, 0) : b + 13, max(a - 12, 0) : a + 13])
            for a, b in zip(x, y, strict=True)
        ]
    )
    return (map_coordinates(picture, xy.T[::-1], order=1) - sky), fits


def test_pauses_are_closed_where_the_stars_went_meanwhile(field, tmp_path):
    folder, _, rays, flux = field
    opened, _ = trails(folder, tmp_path / "open.tif", gaps="open")
    closed, report = trails(folder, tmp_path / "closed.tif")
    said = report["trails"]
    assert said["gaps_closed"] == 3 and said["left_open"] == 0
    assert said["longest_gap_s"] == pytest.approx(
        (1.1 - 110 * 360.98565 / 86400) / 360.98565 * 86400, rel=0.03
    )
    for moment in (0.5, 1.5, 2.5):
        full, fits = along(opened, rays, flux, np.floor(moment))
        before, fits_too = along(opened, rays, flux, moment)
        after, _ = along(closed, rays, flux, moment)
        inside = fits & fits_too
        assert inside.sum() >= 8
        assert np.median(before[inside] / full[inside]) < 0.35
        assert 0.8 < np.median(after[inside] / full[inside]) < 1.25
        assert np.percentile(after[inside] / full[inside], 15) > 0.6


def test_a_tail_fades_and_the_ground_stands_still(field, tmp_path):
    folder, _, rays, flux = field
    even, _ = trails(folder, tmp_path / "even.tif")
    fading, _ = trails(folder, tmp_path / "fading.tif", tail=0.8)
    shares = []
    for moment in (0.0, 3.0):
        a, fits = along(even, rays, flux, moment)
        b, _ = along(fading, rays, flux, moment)
        shares.append(np.median(b[fits] / a[fits]))
    assert shares[0] < 0.35 and shares[1] == pytest.approx(1, abs=0.1)
    ground = np.s_[660:690, 100:800]  # patches of 8 px, 60 to 200 DN: sharp as in one frame
    still = even[ground]
    light = ground_pattern(SPEC)[ground] > 130
    assert np.median(still[light]) / np.median(still[~light]) > 1.5


def test_wrong_wishes_are_named():
    with pytest.raises(BadInput, match="gaps"):
        Settings(gaps="maybe")
    with pytest.raises(BadInput, match="tail"):
        Settings(tail=1.5)
