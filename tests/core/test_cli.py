"""The command line's contract: names, shapes, units, and how it answers to bad input."""

import csv
import io
import json
from datetime import UTC, datetime

import cv2
import numpy as np
import pytest
import tifffile
from icalendar import Calendar
from starfield import Field, make

from vinter.cli import main

LISBON = [
    "--lat",
    "38.2",
    "--lon",
    "-8.8",
    "--tz",
    "Europe/Lisbon",
    "--from",
    "2027-06-01",
    "--to",
    "2027-06-03",
]
LENS = [
    "--f35",
    "24",
    "--focal",
    "5.6",
    "--aperture",
    "1.8",
    "--pitch",
    "1.2",
    "--width",
    "4032",
    "--height",
    "3024",
    "--iso-min",
    "50",
    "--iso-max",
    "3200",
    "--shutter-max",
    "30",
    "--declination",
    "-29",
    "--sky",
    "21.3",
]


@pytest.fixture
def call(capsys):
    def run(*arguments, code=0):
        assert main([str(a) for a in arguments]) == code
        told = capsys.readouterr()
        return told.err if code else told.out

    return run


def test_nights_have_the_promised_shape(call):
    data = json.loads(call("nights", *LISBON, "--sky", "21.5", "--format", "json"))
    assert [n["date"] for n in data["nights"]] == ["2027-06-01", "2027-06-02", "2027-06-03"]
    night = data["nights"][2]
    for name in (
        "set",
        "rise",
        "civil_dusk",
        "nautical_dusk",
        "astronomical_dusk",
        "astronomical_dawn",
        "nautical_dawn",
        "civil_dawn",
    ):
        (moment,) = night["sun"][name]
        assert datetime.strptime(moment, "%Y-%m-%dT%H:%M:%SZ")
    assert set(night["moon"]) >= {"rise", "set", "illuminated_fraction"} and set(night["target"]) == {
        "rise",
        "set",
        "highest",
    }
    (window,) = night["windows"]
    assert set(window["best"]) >= {"time", "altitude", "azimuth", "tilt", "brightness", "cost"}
    assert set(window["best"]["cost"]) >= {"moon", "twilight", "towns", "altitude"}
    assert 0 < night["score"] <= 100 and night["verdict"] == "good" and night["reasons"] and night["schools"]
    assert window["start"] == night["target"]["rise"][0]  # in June the core clears ten degrees after dark


def test_nights_csv_and_calendar_say_the_same(call):
    rows = list(csv.DictReader(io.StringIO(call("nights", *LISBON, "--format", "csv"))))
    events = Calendar.from_ical(call("nights", *LISBON, "--format", "ics")).walk("VEVENT")
    assert [r["window_start"] for r in rows] == [
        e["DTSTART"].dt.astimezone(UTC).strftime("%Y-%m-%dT%H:%M:%SZ") for e in events
    ]
    assert float(rows[0]["best_altitude_deg"]) > 20
    best = json.loads(call("nights", *LISBON))["nights"][0]["windows"][0]["best"]
    assert float(rows[0]["best_azimuth_deg"]) == pytest.approx(best["azimuth"], abs=0.01)
    assert 90 < best["azimuth"] < 270 and best["azimuth"] != pytest.approx(best["altitude"], abs=20)


def test_thresholds_move_the_window(call):
    usual = json.loads(call("nights", *LISBON))["nights"][0]["windows"][0]["minutes"]
    strict = json.loads(call("nights", *LISBON, "--min-altitude", "20"))["nights"][0]["windows"][0]["minutes"]
    loose = json.loads(call("nights", *LISBON, "--sun-below", "-12"))["nights"][0]["windows"][0]["minutes"]
    assert strict < usual < loose


def test_sky_parts_add_up(call):
    there = ["--lat", 38.2, "--lon", -8.8, "--zenith", 21.5]
    data = json.loads(call("sky", *there, "--time", "2027-06-20T01:00:00Z", "--alt", 40, "--az", 120))
    total = sum(data["parts_nl"].values())
    assert data["brightness"] == pytest.approx((20.7233 - np.log(total / 34.08)) / 0.92104, abs=0.001)
    assert (
        set(data["parts_nl"]) == {"natural", "moon", "twilight", "towns"} and data["parts_nl"]["moon"] > 100
    )


def test_sky_auto_takes_the_towns(call):
    place = ["--lat", 38.72, "--lon", -9.14, "--time", "2027-06-05T01:00:00Z", "--alt", 90, "--az", 0]
    auto = json.loads(call("sky", *place, "--zenith", "auto"))["brightness"]
    assert (
        auto == pytest.approx(json.loads(call("glow", "--lat", 38.72, "--lon", -9.14))["zenith"], abs=0.05)
        and auto < 19
    )


def test_glow_names_the_town_and_a_range_of_classes(call):
    data = json.loads(call("glow", "--lat", 37.7, "--lon", -8.78))
    low, high = data["class"]
    assert low <= high and data["towns"][0]["name"] == "Vila Nova de Milfontes"
    assert 0 < data["towns"][0]["share"] < 1 and 300 < data["towns"][0]["azimuth"] < 360


def test_exposure_equals_the_worked_example(call):
    data = json.loads(call("exposure", *LENS))
    assert data["shutter"]["rule_500"] == pytest.approx(20.8, abs=0.05)
    assert data["shutter"]["npf_simple"] == pytest.approx(17.7, abs=0.05)
    assert data["shutter"]["npf_full"] == pytest.approx(9.7, abs=0.05)
    assert data["shutter"]["drift_px_s"] == pytest.approx(0.298, abs=0.001)
    assert data["shutter"]["worst_px_s"] > data["shutter"]["drift_px_s"]
    assert data["shutter"]["trail_px"] == pytest.approx(
        data["shutter"]["chosen"] * data["shutter"]["worst_px_s"]
    )
    wide = json.loads(call("exposure", *LENS, "--tolerance-px", 12, "--frames", 40))
    assert wide["shutter"]["chosen"] > data["shutter"]["chosen"] and wide["frames"]["count"] == 40


def test_from_frames_to_a_picture(call, tmp_path, no_blind_search):
    frames = tmp_path / "frames"
    frames.mkdir()
    make(frames, Field(count=4, width=800, height=600, stars=300, focal=600.0, streak=None))
    (frames / "broken.dng").write_bytes(b"II*\0 not really")
    rows = {r["file"]: r for r in json.loads(call("inspect", frames, "--format", "json"))}
    assert rows["IMG_0001.dng"]["stars"] > 100 and rows["IMG_0001.dng"]["raw"] == "sensor"
    assert rows["broken.dng"]["verdict"] == "drop" and "broken.dng" in rows["broken.dng"]["reasons"][0]
    call("stack", frames, "-o", tmp_path / "out.tif", "--report", tmp_path / "out.json", "--workers", 1)
    report = json.loads((tmp_path / "out.json").read_text())
    assert set(report) >= {
        "reference",
        "model",
        "frames",
        "noise_gain",
        "noise_expected",
        "fwhm_frame",
        "fwhm_stack",
        "seconds",
        "peak_rss_mb",
    }
    assert np.array(report["frames"][0]["homography"]).shape == (3, 3)
    picture = tifffile.imread(tmp_path / "out.tif")
    assert picture.dtype == np.float32 and picture.shape == (600, 800, 3)
    assert cv2.imread(str(tmp_path / "out.mask.png"), cv2.IMREAD_UNCHANGED).shape == (600, 800)
    for name in ("out.tif", "out.mask.png", "out.left-out.png"):  # an earlier output among the frames
        (frames / name).write_bytes((tmp_path / name).read_bytes())
    call("stack", frames, "-o", tmp_path / "again.tif", "--report", tmp_path / "again.json", "--workers", 1)
    assert json.loads((tmp_path / "again.json").read_text())["frames"] == report["frames"]
    assert len(json.loads(call("inspect", frames, frames / "gone.dng"))) == 7  # the earlier stack too
    (tmp_path / "r.json").write_text('{"floor": 0.5, "crop": {"ratio": "1:1"}}')
    made = json.loads(
        call(
            "finish",
            tmp_path / "out.tif",
            "--recipe",
            tmp_path / "r.json",
            "-o",
            tmp_path / "out.png",
            "--width",
            300,
        )
    )
    assert (made["width"], made["height"]) == (300, 300)
    assert cv2.imread(str(tmp_path / "out.png")).shape == (300, 300, 3)


@pytest.mark.parametrize(
    ("arguments", "word"),
    [
        (["nights", *LISBON, "--lat", "98"], "latitude"),
        (["nights", *LISBON, "--tz", "Mars"], "Mars"),
        (["nights", *LISBON, "--from", "tomorrow"], "tomorrow"),
        (["nights", *LISBON, "--sky", "30"], "zenith"),
        (["nights", *LISBON, "--lon", "nan"], "finite"),
        (["sky", "--lat", "1"], "required"),
        (["exposure", *LENS, "--aperture", "0"], "aperture"),
        (["exposure", *LENS, "--frames", "0"], "frames"),
        (["stack", "/nowhere", "-o", "x.tif"], "/nowhere"),
        (["inspect", "/nowhere.dng"], "/nowhere.dng"),
        (["finish", "/a.tif", "--recipe", "/b.json", "-o", "x.jpg"], "/b.json"),
        (["simulate", "--out", "/tmp/x", "--phone", "brick"], "brick"),
        (["simulate", "--out", "/tmp/x", "--n", "0"], "n 0"),
        (["dance"], "dance"),
    ],
)
def test_bad_input_ends_with_two_and_one_line(call, arguments, word):
    line = call(*arguments, code=2)
    assert word in line and line.count("\n") == 1 and "Traceback" not in line
