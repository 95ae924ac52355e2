"""What is wrong on the command line is named in one line; nothing is written and nothing crashes."""

import io
import json

import numpy as np
import pytest
import tifffile
from PIL import Image
from starfield import Field, make

from vinter.cli import main

SITE = ["--lat", "38.2", "--lon", "-8.8", "--tz", "Europe/Lisbon"]
NIGHTS = ["nights", *SITE, "--from", "2027-06-01", "--to", "2027-06-03"]
SKY = ["sky", *SITE[:4], "--time", "2027-06-10T01:12:00Z", "--alt", "22", "--az", "178"]
LENS = {
    "f35": 24, "focal": 5.6, "aperture": 1.8, "pitch": 1.2, "width": 4032, "height": 3024, "iso-min": 50,
    "iso-max": 3200, "shutter-max": 30, "declination": -29, "sky": 21.3,
}  # fmt: skip


@pytest.fixture
def fails(capsys):
    """The one line that a call ends with, after exit code 2."""

    def run(*arguments):
        assert main([str(a) for a in arguments]) == 2
        *progress, line = capsys.readouterr().err.splitlines()
        assert line.startswith("vinter: ") and all("%" in said for said in progress), progress
        return line

    return run


@pytest.fixture(scope="module")
def frames(tmp_path_factory):
    """Three small frames of the independent generator."""
    folder = tmp_path_factory.mktemp("frames")
    make(folder, Field(count=3, width=400, height=300, stars=120, focal=300.0))
    return sorted(folder.glob("*.dng"))


def with_lens(**changed):
    return ["exposure", *(f for k, v in {**LENS, **changed}.items() for f in (f"--{k}", str(v)))]


@pytest.mark.parametrize(
    ("more", "word"),
    [
        (["--lat", "-91"], "latitude"),
        (["--lat", "inf"], "finite"),
        (["--lon", "181"], "longitude"),
        (["--tz", "Europe/Atlantis"], "Europe/Atlantis"),
        (["--from", "2027-6-1"], "2027-6-1"),
        (["--to", "2027-05-01"], "2027-05-01"),
        (["--to", "2099-12-31"], "800 days"),
        (["--format", "xml"], "xml"),
        (["--sky", "10"], "zenith"),
        (["--min-altitude", "90"], "min-altitude"),
        (["--extinction", "-1"], "extinction"),
    ],
)
def test_nights(fails, more, word):
    assert word in fails(*NIGHTS, *more)


@pytest.mark.parametrize(
    ("more", "word"),
    [
        (["--time", "at one"], "at one"),
        (["--alt", "high"], "high"),
        (["--alt", "91"], "alt"),
        (["--lat", "x"], "x"),
    ],
)
def test_sky(fails, more, word):
    assert word in fails(*SKY, *more)


@pytest.mark.parametrize(
    ("changed", "word"),
    [
        ({"f35": 0}, "equivalent focal length"),
        ({"focal": -1}, "focal"),
        ({"aperture": 0}, "aperture"),
        ({"pitch": 0}, "pitch"),
        ({"width": 0}, "width"),
        ({"height": 0}, "height"),
        ({"declination": 91}, "declination"),
        ({"sky": 99}, "sky"),
        ({"shutter-max": 0}, "shutter"),
        ({"iso-min": "low"}, "low"),
    ],
)
def test_exposure(fails, changed, word):
    assert word in fails(*with_lens(**changed))


def test_exposure_needs_its_figures(fails):
    assert "--f35" in fails("exposure")


@pytest.mark.parametrize("name", ["empty.dng", "words.dng", "half.dng", "picture.tif", "folder.dng"])
def test_a_file_that_is_no_frame_is_named(fails, frames, tmp_path, name, capsys):
    path = tmp_path / name
    if name == "folder.dng":
        path.mkdir()
    else:
        whole = frames[0].read_bytes()
        contents = {"empty.dng": b"", "words.dng": b"nothing to see", "half.dng": whole[: len(whole) // 3]}
        path.write_bytes(contents.get(name, b"II*\0junk"))
    assert "no frames" in (line := fails("inspect", path)) or "none of the files" in line


def test_good_files_are_measured_beside_bad_ones(frames, tmp_path, capsys):
    (tmp_path / "bad.dng").write_bytes(b"II*\0nothing")
    assert main(["inspect", str(frames[0]), str(tmp_path / "bad.dng")]) == 0
    good, bad = json.loads(capsys.readouterr().out)
    assert good["stars"] > 20 and (bad["verdict"], bad["file"]) == ("drop", "bad.dng") and bad["reasons"]


@pytest.mark.parametrize(
    ("more", "word"),
    [
        (["--method", "magic"], "magic"),
        (["--kappa", "nan"], "finite"),
        (["--kappa", "0.1"], "kappa"),
        (["--ground", "nobody.dng"], "nobody.dng"),
        (["--reference", "nobody.dng"], "nobody.dng"),
        (["--tail", "2"], "tail"),
        (["--match", "maybe"], "maybe"),
        (["--mask", "/nowhere.png"], "nowhere.png"),
        (["--darks", "/nowhere"], "nowhere"),
        (["--workers", "many"], "many"),
        (["--ground", "own"], "ground"),
    ],
)
def test_stack(fails, frames, tmp_path, more, word):
    assert word in fails("stack", *frames, "-o", tmp_path / "out.tif", *more)
    assert not (tmp_path / "out.tif").exists()


def test_a_stack_cannot_be_written_into_nowhere(fails, frames):
    assert "/nowhere" in fails("stack", *frames, "-o", "/nowhere/out.tif")


@pytest.fixture
def linear(tmp_path):
    """A small linear picture."""
    path = tmp_path / "plain.tif"
    tifffile.imwrite(path, np.zeros((20, 30, 3), np.float32))
    return path


@pytest.mark.parametrize(
    ("recipe", "word"),
    [
        ("{", "JSON"),
        ("[]", "object"),
        ('{"version": 99}', "99"),
        ('{"version": 2, "shine": {}}', "shine"),
        ('{"version": 2, "geometry": {"level": 40}}', "level"),
        ('{"version": 2, "geometry": {"ratio": "7:3"}}', "ratio"),
        ('{"version": 2, "black_point": {"magnitudes": "deep"}}', "magnitudes"),
        ('{"sky": {"glitter": 1}}', "glitter"),
    ],
)
def test_recipes(fails, linear, tmp_path, recipe, word):
    (tmp_path / "r.json").write_text(recipe)
    line = fails("finish", linear, "--recipe", tmp_path / "r.json", "-o", tmp_path / "x.jpg")
    assert word in line and "r.json" in line


@pytest.mark.parametrize(
    ("arguments", "word"),
    [
        (["-o", "x.gif"], "x.gif"),
        (["-o", "x.jpg", "--width", "3"], "width"),
        (["-o", "x.jpg", "--width", "wide"], "wide"),
        (["-o", "x.jpg", "--names"], "stars were not matched"),
        (["-o", "x.linear.tif", "--names"], "linear"),
    ],
)
def test_finish(fails, linear, tmp_path, monkeypatch, arguments, word):
    monkeypatch.chdir(tmp_path)
    (tmp_path / "r.json").write_text("{}")
    assert word in fails("finish", linear, "--recipe", tmp_path / "r.json", *arguments)
    assert not (tmp_path / "x.jpg").exists() and not (tmp_path / "x.gif").exists()


def test_a_photo_is_no_stack(fails, tmp_path):
    block = io.BytesIO()
    Image.new("RGB", (40, 30)).save(block, "JPEG")
    (tmp_path / "photo.tif").write_bytes(block.getvalue())
    (tmp_path / "r.json").write_text("{}")
    assert "photo.tif" in fails(
        "finish", tmp_path / "photo.tif", "--recipe", tmp_path / "r.json", "-o", "x.jpg"
    )


@pytest.mark.parametrize(
    ("more", "word"),
    [
        (["--lens", "periscope"], "periscope"),
        (["--n", "-1"], "n -1"),
        (["--n", "few"], "few"),
        (["--phone", "spoon"], "spoon"),
    ],
)
def test_simulate(fails, tmp_path, more, word):
    assert word in fails("simulate", "--out", tmp_path, *more)


@pytest.mark.parametrize("arguments", [[], ["dance"], ["nights"], ["stack"], ["finish"], ["simulate"]])
def test_without_what_is_needed_the_usage_is_named(fails, arguments):
    assert fails(*arguments)
