"""A stranger's folder through the web: every file answered, the good ones measured, nothing torn."""

import json
import sys
from pathlib import Path

import pytest
from django.urls import reverse

from vinter.web.takes.models import Take
from vinter.web.takes.tasks import measure_take

sys.path.insert(0, str(Path(__file__).parents[2] / "tools"))


@pytest.mark.django_db
def test_every_file_of_a_strangers_folder_is_answered(desk, nerea, tools, tmp_path, monkeypatch):
    import hostile_files

    monkeypatch.setattr(hostile_files, "_bombs", lambda: iter(()))  # slow to make
    files = hostile_files.write_all(tmp_path / "all")[::5]
    take = Take.objects.create(owner=nerea, kind=Take.UPLOADED, title="Found on a card")
    refused = {}
    for path in files:
        with path.open("rb") as file:
            answer = desk.post(reverse("upload", args=[take.pk]), {"file": file})
        said = answer.json()
        assert answer.status_code in (200, 400), (path.name, said)
        if "error" in said:
            refused[path.name] = said["error"]
    measure_take(take.pk, tools)
    frames = list(take.frame_set.all())
    assert len(frames) + len(refused) == len(files) and len(frames) > 40
    good = [f for f in frames if f.measure]
    assert len(good) > 15
    for frame in frames:
        assert bool(frame.measure) != bool(frame.error), frame.name
        json.dumps(frame.measure, allow_nan=False)
        if frame.error:
            assert frame.error.startswith(frame.name) and "\n" not in frame.error
            assert str(take.folder) not in frame.error and frame.stored not in frame.error
    assert desk.get(reverse("take", args=[take.pk])).status_code == 200
    assert not [p for p in take.folder.rglob("*") if ".part" in p.name]


def test_sizes_that_are_forged_are_refused_for_what_they_are(tmp_path):
    import hostile_files

    from vinter.core.errors import BadInput
    from vinter.core.frames.decoding import decoded

    for name, data in hostile_files._forged_sizes():
        (tmp_path / name).write_bytes(data)
        with pytest.raises(BadInput, match=rf"^{name}: .*too large"):
            decoded(tmp_path / name)


def test_what_takes_too_much_memory_says_so_and_only_then(tmp_path, monkeypatch):
    """The limit holds for the child alone; the next file is decoded as if nothing had been."""
    import numpy as np
    import tifffile

    from vinter.core.errors import BadInput
    from vinter.core.frames.decoding import decoded

    values = np.zeros((9000, 9000), np.float64)  # 2 GB as it is unpacked and brought to 16 bits
    tifffile.imwrite(tmp_path / "deep.tif", values, compression="zlib")
    with pytest.raises(BadInput, match=r"deep\.tif: opening it needs more than 2\.4 GB of memory"):
        decoded(tmp_path / "deep.tif")
    tifffile.imwrite(tmp_path / "small.tif", np.zeros((90, 90, 3), np.uint8), photometric="rgb")
    assert decoded(tmp_path / "small.tif").size == (90, 90)
