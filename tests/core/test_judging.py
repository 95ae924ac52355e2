"""Judging a table of frames of known faults: every fault found with its cause, no clean frame accused."""

import cv2
import numpy as np
import pytest
from scenes import Scene, make

from vinter.core.frames.frame_type import classify_take
from vinter.core.frames.judging import compare
from vinter.core.frames.measuring import measure
from vinter.core.frames.reading import read_frame

SMALL = {"width": 1260, "height": 944, "focal": 875.0, "stars": 3200}
LINES = {
    1: (0.1, 0.2, 0.8, 0.5, 90.0, True),  # an aeroplane with lights
    4: (0.55, 0.05, 0.9, 0.6, 45.0, False),  # a satellite
    7: (0.2, 0.6, 0.65, 0.1, 35.0, False),
}


@pytest.fixture(scope="module")
def table(tmp_path_factory):
    """Two takes of twelve frames, measured and compared; the first clean but for what flies through it."""
    out = []
    for seed, faults in (
        (21, {"lines": LINES}),
        (
            22,
            {
                "lamp": {2: 0.9, 9: 1.5},
                "blur": {3: 3.2},
                "shake": {5: 17, 8: 25},
                "veil": {6: 0.75},
                "cloud": 0.0,
            },
        ),
        (23, {"ground": "hills", "ground_light": 0.5}),
    ):
        folder = tmp_path_factory.mktemp(f"take{seed}")
        make(folder, Scene(seed=seed, **SMALL, **faults))
        out.append(compare([measure(read_frame(p)) for p in sorted(folder.glob("*.dng"))]))
    return out


def said(m):
    return " ".join(m.reasons)


def test_what_flies_through_is_found_and_nothing_else_is_taken_for_it(table):
    for take, flown in zip(table, (LINES, {}, {}), strict=True):
        for i, m in enumerate(take):
            assert ("aeroplane" in said(m)) == (i in flown), (i, said(m), m.streak_lines)
    first = table[0][1].streak_lines[0]
    ends = sorted([(first[0], first[1]), (first[2], first[3])])
    assert ends[0] == pytest.approx((0.1 * 1260, 0.2 * 944), abs=30)
    assert ends[1] == pytest.approx((0.8 * 1260, 0.5 * 944), abs=30)


def test_no_clean_frame_is_accused(table):
    for take, faulty in ((table[0], LINES), (table[1], {2, 9, 3, 5, 8, 6}), (table[2], {})):
        for i, m in enumerate(take):
            if i not in faulty:
                assert m.verdict == "keep" and not m.reasons, (i, m.reasons)


def test_every_fault_has_its_one_cause(table):
    take = table[1]
    for i, cause in ((2, "lamp"), (9, "lamp"), (3, "soft"), (5, "shaken"), (8, "shaken"), (6, "cloud")):
        assert cause in said(take[i]), (i, said(take[i]))
        assert take[i].verdict in ("drop", "doubt")
    for i in (3, 5, 8):
        assert "cloud" not in said(take[i]) and len(take[i].reasons) == 1, said(take[i])


def flat_file(path, level, noise=3.0, seconds=None, fall=0.0, name="x"):
    rng = np.random.default_rng(5)
    y, x = np.mgrid[:600, :800]
    r2 = ((x - 400) ** 2 + (y - 300) ** 2) / 250000
    data = 256 + level * (4095 - 256) * (1 - fall * r2) + rng.normal(0, noise, x.shape)
    import tifffile
    from scenes import TAGS

    tags = [*TAGS, (33434, "2I", 1, (int(seconds * 1000), 1000), True)] if seconds else TAGS
    tifffile.imwrite(
        path, np.clip(data, 0, 4095).astype(np.uint16), photometric=32803, extratags=tags, metadata=None
    )
    return measure(read_frame(path))


def test_darks_warm_ones_and_dim_flats_are_known(tmp_path):
    cold = flat_file(tmp_path / "a.dng", 0.0001, seconds=10)
    warm = flat_file(tmp_path / "b.dng", 0.006, noise=9.0, seconds=20)
    dim = flat_file(tmp_path / "c.dng", 0.05, seconds=0.02, fall=0.3)
    assert classify_take([cold, warm, dim]) == ["dark", "dark", "flat"]


def test_daylight_is_called_so_and_holds_no_aeroplanes(tmp_path):
    rng = np.random.default_rng(2)
    picture = np.full((600, 800, 3), 150, np.uint8)
    for _ in range(60):
        a, b = rng.integers(0, (800, 600), (2, 2)).tolist()
        cv2.line(picture, a, b, tuple(map(int, rng.integers(80, 230, 3))), 2)
    cv2.imwrite(str(tmp_path / "day.jpg"), picture)
    m = measure(read_frame(tmp_path / "day.jpg"))
    assert "aeroplane" not in said(m) and m.verdict == "drop"


def test_a_picture_beside_its_raw_is_not_called_brighter(table):
    raw = table[0]
    twin = [m.__class__(**{**vars(m), "kind": "picture", "background": m.background * 11}) for m in raw[:3]]
    assert not any("brighter" in said(m) for m in compare([*raw, *twin]))


def test_eight_bits_in_a_bayer_file_are_no_sensor_data(tmp_path):
    rng = np.random.default_rng(3)
    linear = np.clip(rng.normal(0.05, 0.01, (600, 800)), 0, 1)
    encoded = np.round(255 * linear ** (1 / 2.2)) * 16
    import tifffile
    from scenes import TAGS

    path = tmp_path / "coded.dng"
    tifffile.imwrite(path, encoded.astype(np.uint16), photometric=32803, extratags=TAGS, metadata=None)
    m = measure(read_frame(path))
    assert m.raw == "processed" and "8 bits" in m.raw_reasons[0]
