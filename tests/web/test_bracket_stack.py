"""An exposure bracket of a take, from its page to a finish, and the same in the shell."""

import io
import json
import re
from datetime import UTC, datetime

import numpy as np
import pytest
from desk import said
from django.urls import reverse
from PIL import Image

from vinter.cli import main
from vinter.core.stack.file import read_about, read_stack
from vinter.web.jobs.models import Job
from vinter.web.stacks.bracket import run_bracket
from vinter.web.stacks.models import Stack
from vinter.web.takes.models import Frame, Take
from vinter.web.takes.tasks import measure_take

pytestmark = pytest.mark.django_db
EVS = (-4, 0, 2)


def pictures(evs=EVS, start=1812589930.0):
    """JPEGs of one yard with a lit window, by EV, as a phone writes them."""
    rng = np.random.default_rng(4)
    y, _ = np.mgrid[:480, :640].astype(float)
    bricks = rng.normal(0, 0.006, (120, 160)).repeat(4, 0).repeat(4, 1)
    light = 0.02 + 0.08 * y / 480 + np.where(y > 200, bricks, 0)
    light[250:330, 420:520] = 1.9
    out = []
    for k, ev in enumerate(evs):
        linear = np.clip(light * 2.0**ev + rng.normal(0, 0.001, light.shape), 0, 1)
        level = np.where(linear < 0.0031308, 12.92 * linear, 1.055 * linear ** (1 / 2.4) - 0.055)
        exif = Image.Exif()
        exif[271], exif[272] = "Marlet", "Marlet 7"
        shown = datetime.fromtimestamp(start + 10 * k, UTC).strftime("%Y:%m:%d %H:%M:%S")
        exif.get_ifd(34665).update({36867: shown, 36881: "+00:00", 33434: 2.0**ev, 34855: 100, 41989: 24})
        held = io.BytesIO()
        Image.fromarray(np.repeat(level[..., None] * 255 + 0.5, 3, axis=2).astype(np.uint8)).save(
            held, "JPEG", quality=97, subsampling=0, exif=exif
        )
        out.append(held.getvalue())
    return out


@pytest.fixture
def yard(nerea, tools):
    """A take of one bracket."""
    take = Take.objects.create(owner=nerea, kind=Take.UPLOADED, title="Yard")
    take.previews.mkdir(parents=True, exist_ok=True)
    for i, data in enumerate(pictures()):
        name = f"P{i}.jpg"
        (take.folder / name).write_bytes(data)
        Frame.objects.create(take=take, name=name, stored=name, digest=f"yard{i}", size=len(data))
    measure_take(take.pk, tools)
    return take


def test_a_bracket_is_offered_merged_and_finished(desk, yard, tools):
    page = re.sub(r"\s+", " ", said(desk.get(reverse("take", args=[yard.pk]))))
    assert "An exposure bracket, 6.0 EV wide: P0.jpg, P1.jpg, P2.jpg" in page
    frames = [f.pk for f in yard.frame_set.order_by("name")]
    answer = desk.post(reverse("bracket-new", args=[yard.pk]), {"frame": frames})
    one = Stack.objects.get()
    assert answer.url == reverse("stack", args=[one.pk]) and Job.objects.latest("id").kind == "bracket"
    run_bracket(one.pk, tools)
    Job.objects.update(state=Job.DONE)
    one.refresh_from_db()
    rgb = read_stack(one.picture)[0]
    window, wall = rgb[270:310, 440:500, 1].mean(), rgb[20:180, 20:400, 1].mean()
    assert window / wall == pytest.approx(1.9 / (0.02 + 0.08 * 100 / 480), rel=0.08)
    assert read_about(one.picture).frames == 3 and not read_about(one.picture).linear
    words = re.sub(r"\s+", " ", said(desk.get(reverse("stack", args=[one.pk]))))
    assert "one picture of all of them" in words and "P0.jpg" in words and "the reference" in words
    assert desk.get(desk.post(reverse("finish-new", args=[one.pk])).url).status_code == 200
    assert "3 exposures merged" in said(desk.get(reverse("stacks")))
    assert desk.get(reverse("paint", args=[one.pk])).status_code == 400


@pytest.mark.parametrize("wanted", [[], ["1"], ["999999", "999998", "999997"], ["x", "y", "z"]])
def test_what_is_no_bracket_of_the_take_is_refused(desk, yard, wanted):
    answer = desk.post(reverse("bracket-new", args=[yard.pk]), {"frame": wanted})
    assert answer.status_code == 400 and "3 to 9 of its frames" in said(answer)
    assert not Stack.objects.exists()


def test_a_burst_of_equal_frames_holds_no_bracket(desk, small_take):
    assert "An exposure bracket" not in said(desk.get(reverse("take", args=[small_take.pk])))


def test_the_shell_merges_the_bracket_of_a_folder_and_asks_where_there_are_two(tmp_path, capsys):
    for i, data in enumerate(pictures()):
        (tmp_path / f"P{i}.jpg").write_bytes(data)
    assert main(["bracket", str(tmp_path), "-o", str(tmp_path / "out.tif"), "--workers", "1"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert told["bracket"]["range_ev"] == pytest.approx(6.0, abs=0.2)
    assert sum(p["ev"] == 0 for p in told["bracket"]["parts"]) == 1
    for i, data in enumerate(pictures(start=1812590930.0)):
        (tmp_path / f"Q{i}.jpg").write_bytes(data)
    (tmp_path / "out.tif").unlink()
    assert main(["bracket", str(tmp_path), "-o", str(tmp_path / "two.tif")]) == 2
    assert "2 brackets: name the files of one (P0.jpg, P1.jpg, P2.jpg; Q0.jpg" in capsys.readouterr().err
