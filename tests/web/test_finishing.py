"""The finish through its pages: what a slider does to the picture's light, what is kept, what comes out as a
file."""

import io
import json
import re
import shutil
from dataclasses import replace

import cv2
import numpy as np
import pytest
import tifffile
from desk import said, upload
from django.urls import reverse
from PIL import Image

from vinter.core.finish.moves.detail import Contrast, Detail
from vinter.core.finish.moves.geometry import Geometry
from vinter.web.finish import edit_session
from vinter.web.finish.models import Export, Finish
from vinter.web.finish.tasks import export_finish
from vinter.web.jobs.models import Job
from vinter.web.stacks.models import Stack
from vinter.web.stacks.tasks import run_stack
from vinter.web.stacks.working import WORKING
from vinter.web.takes.models import Take
from vinter.web.takes.tasks import measure_take


@pytest.fixture
def begun(desk, small_stack):
    answer = desk.post(reverse("finish-new", args=[small_stack.pk]))
    one = Finish.objects.get()
    assert answer.status_code == 302 and answer.url == reverse("finish", args=[one.pk])
    return one


def with_value(recipe, path, value):
    out = json.loads(json.dumps(recipe))
    at = out
    *parents, last = path.split(".")
    for part in parents:
        at = at[part]
    at[last] = value
    return out


def drawn(desk, one, recipe, size=""):
    answer = desk.post(
        reverse("draw", args=[one.pk]) + size, json.dumps(recipe), content_type="application/json"
    )
    assert (
        answer.status_code == 200
        and answer["Content-Type"] == "image/jpeg"
        and answer["Cache-Control"] == "no-store"
    )
    return np.asarray(Image.open(io.BytesIO(answer.content))).astype(float), json.loads(answer["X-Vinter"])


@pytest.mark.django_db
def test_a_slider_changes_its_part_of_the_picture_and_no_other(desk, begun):
    plain, told = drawn(desk, begun, begun.recipe)
    height, width = plain.shape[:2]
    assert told["size"] == [width, height] == [800, 600]
    sky, ground = np.s_[40:380, 40:-40], np.s_[560:595, 40:-40]
    counts = told["histogram"]
    assert sum(counts["sky"]) + sum(counts["ground"]) == pytest.approx(width * height / 4, rel=0.01)
    grey = plain[sky] @ [0.299, 0.587, 0.114]
    middle = (np.searchsorted(np.cumsum(counts["sky"]), sum(counts["sky"]) / 2) + 0.5) * 2
    assert middle == pytest.approx(np.median(grey), abs=4)
    brighter, _ = drawn(
        desk,
        begun,
        with_value(
            begun.recipe,
            "light_balance.sky.brightness",
            begun.recipe["light_balance"]["sky"]["brightness"] + 1,
        ),
    )
    assert (
        brighter[sky].mean() > 1.25 * plain[sky].mean()
        and abs(brighter[ground].mean() - plain[ground].mean()) < 1
    )
    lit, _ = drawn(
        desk,
        begun,
        with_value(
            begun.recipe,
            "light_balance.ground.brightness",
            begun.recipe["light_balance"]["ground"]["brightness"] + 1,
        ),
    )
    assert lit[ground].mean() > 1.25 * plain[ground].mean() and abs(lit[sky].mean() - plain[sky].mean()) < 1
    # light of more kelvin taken for neutral makes the sky warmer
    warm, _ = drawn(
        desk,
        begun,
        with_value(
            begun.recipe, "light_balance.sky.kelvin", begun.recipe["light_balance"]["sky"]["kelvin"] + 1500
        ),
    )
    assert (warm - plain)[sky][..., 0].mean() > 1 and (warm - plain)[sky][..., 2].mean() < -1
    turned, other = drawn(
        desk, begun, {**begun.recipe, "geometry": {**begun.recipe["geometry"], "level": 3.0, "ratio": "1:1"}}
    )
    assert turned.shape[0] == turned.shape[1] < 600 and other["to_shares"] != told["to_shares"]


@pytest.mark.django_db
def test_a_draft_is_small_quick_and_of_the_same_light(desk, begun, monkeypatch):
    monkeypatch.setattr(edit_session, "DRAFT_PX", 200)
    edit_session.SESSIONS.clear()
    full, _ = drawn(desk, begun, begun.recipe)
    draft, told = drawn(desk, begun, begun.recipe, "?size=draft")
    assert told["size"] == [200, 150]
    small = cv2.resize(full, (200, 150), interpolation=cv2.INTER_AREA)
    assert draft.mean(axis=(0, 1)) == pytest.approx(small.mean(axis=(0, 1)), abs=6)
    # as many px as are asked for, and never more than a draft's
    for asked, wide in ((100, 100), (5000, 200)):
        assert drawn(desk, begun, begun.recipe, f"?size=draft&wide={asked}")[1]["size"][0] == wide
    edit_session.SESSIONS.clear()


@pytest.mark.django_db
@pytest.mark.parametrize(
    ("wide", "share", "drawn_px"),
    [(350, 1.0, 400), (400, 1.0, 400), (401, 1.0, 500), (300, 0.5, 300), (5000, 1.0, 800)],
)
def test_no_more_pixels_are_drawn_than_a_screen_shows(desk, begun, wide, share, drawn_px):
    """Of the next 100 px of the whole picture, of which a crop shows its share."""
    cropped = with_value(begun.recipe, "geometry.size", share)
    picture, told = drawn(desk, begun, cropped, f"?size=full&wide={wide}")
    assert picture.shape[1] == told["size"][0] == pytest.approx(drawn_px, abs=1)
    assert told["scale"] == pytest.approx(drawn_px / share / 800)
    all_of_it, _ = drawn(desk, begun, cropped)
    same = cv2.resize(all_of_it, picture.shape[1::-1], interpolation=cv2.INTER_AREA)
    assert picture.mean(axis=(0, 1)) == pytest.approx(same.mean(axis=(0, 1)), abs=4)


@pytest.mark.django_db
def test_few_sizes_are_held(begun):
    editing = edit_session.SESSIONS.of(begun.stack.folder / WORKING)
    first = editing.whole(150)
    assert editing.whole(200) is first and editing.whole(900).scene is editing.scene
    assert editing.whole(800) is editing.whole(2000)
    for px in (400, 600):
        editing.whole(px)
    assert editing.whole(150) is not first


@pytest.mark.django_db
def test_a_part_looks_to_its_very_edge_as_it_does_in_the_whole(begun):
    """Haze looks some degrees about a pixel: beyond the part's edge too, where a bright band lies here."""
    scene = edit_session.SESSIONS.of(begun.stack.folder / WORKING).scene
    rgb = scene.rgb.copy()
    rgb[:, 180:235] *= 1.5
    scene = replace(scene, rgb=rgb, sky=np.ones_like(scene.sky))
    recipe = begun.core().with_moves(Detail(sky=Contrast(haze=1.2)), Geometry())
    editing = edit_session.EditSession(scene, begun.stack.picture, _whole=(rgb, None))
    whole, _, _ = editing.drawn(recipe, edit_session.View())
    part, seen, _ = editing.drawn(recipe, edit_session.View(middle=(0.45, 0.5), size=(240, 300)))
    assert seen.shape == (300, 240, 3)
    assert part.to_shares @ [0, 0, 1] == pytest.approx([240.5 / 800, 150.5 / 600, 1])
    there = whole.rgb[150:450, 240:480]
    for strip in (np.s_[:, :15], np.s_[:, -15:], np.s_[:15], np.s_[-15:], np.s_[:]):
        assert part.rgb[strip].mean(axis=(0, 1)) * 255 == pytest.approx(
            there[strip].mean(axis=(0, 1)) * 255, abs=1
        )


@pytest.mark.django_db
def test_edit_sessions_in_memory_stay_few_and_follow_the_file(begun, tmp_path):
    import os
    import shutil

    edit_session.SESSIONS.clear()
    working = begun.stack.folder / WORKING
    copies = [tmp_path / f"{i}.npz" for i in range(edit_session.MOST + 2)]
    for copy in copies:
        shutil.copy(working, copy)
    first = edit_session.SESSIONS.of(copies[0])
    assert edit_session.SESSIONS.of(copies[0]) is first
    os.utime(copies[0], (1, 1))
    assert edit_session.SESSIONS.of(copies[0]) is not first  # another file lies there now
    for copy in copies:
        edit_session.SESSIONS.of(copy)
    assert len(edit_session.SESSIONS) == edit_session.MOST and copies[-1] in edit_session.SESSIONS
    edit_session.SESSIONS.clear()


@pytest.mark.django_db
def test_the_recipe_is_kept_and_leaves_as_the_file_the_command_line_reads(desk, begun, tmp_path):
    from vinter.core.finish.moves.black_point import BlackPoint
    from vinter.core.finish.recipe import parse_recipe

    wanted = with_value(begun.recipe, "black_point.magnitudes", 0.9)
    answer = desk.post(
        reverse("finish-save", args=[begun.pk]), json.dumps(wanted), content_type="application/json"
    )
    assert answer.json()["saved"] is True
    got = desk.get(reverse("recipe-file", args=[begun.pk]))
    assert f'filename="vinter-recipe-{begun.pk}.json"' in got["Content-Disposition"]
    assert parse_recipe(got.content).of(BlackPoint).magnitudes == 0.9
    page = said(desk.get(reverse("finish", args=[begun.pk])))
    assert "5 frames" in page and 'value="0.9"' in page
    for wrong, field in (
        (with_value(wanted, "black_point.magnitudes", 99), "black_point.magnitudes"),
        ({**wanted, "shine": 1}, "shine"),
        ("not json", "JSON"),
    ):
        body = wrong if isinstance(wrong, str) else json.dumps(wrong)
        answer = desk.post(reverse("finish-save", args=[begun.pk]), body, content_type="application/json")
        assert answer.status_code == 400 and field in said(answer)
    assert Finish.objects.get().recipe["black_point"]["magnitudes"] == 0.9


@pytest.mark.django_db
@pytest.mark.parametrize(("kind", "deep"), [("jpg", False), ("tif", True), ("png", True)])
def test_exports_open_at_the_wished_width_and_carry_when_they_were_taken(desk, begun, tools, kind, deep):
    frame = begun.stack.take.frame_set.order_by("name").first()
    frame.measure |= {"time": 1812589930.0, "local": 1812593530.0, "time_source": "the GPS stamp"}
    frame.save()
    desk.post(reverse("export", args=[begun.pk]), {"kind": kind, "width": "400"})
    made = Export.objects.get()
    assert (
        Job.objects.get().kind == "export"
        and desk.get(reverse("download", args=[made.pk])).status_code == 404
    )
    export_finish(made.pk, tools)
    made.refresh_from_db()
    assert made.ready and (made.made_width, made.made_height) == (400, 300)
    answer = desk.get(reverse("download", args=[made.pk]))
    data = b"".join(answer.streaming_content)
    assert f".{kind}" in answer["Content-Disposition"]
    picture = (
        tifffile.imread(io.BytesIO(data))
        if kind == "tif"
        else cv2.imdecode(np.frombuffer(data, np.uint8), cv2.IMREAD_UNCHANGED)
    )
    assert picture.shape == (300, 400, 3) and picture.dtype == (np.uint16 if deep else np.uint8)
    light = picture.mean(axis=2) / (65535 if deep else 255)
    assert light[20:190].mean() > light[285:].mean() > 0  # sky over ground, neither black
    small = Image.open(
        io.BytesIO(b"".join(desk.get(reverse("download-small", args=[made.pk])).streaming_content))
    )
    assert small.format == "JPEG" and small.width == 800  # for the ledger: up to 900 px, never enlarged
    if kind == "jpg":
        exif = Image.open(io.BytesIO(data)).getexif()
        assert "Small frames: 5 frames stacked" in exif.get(270, "") and exif[272] == "Marlet 7"
        assert exif.get_ifd(34665)[36867] == "2027:06:10 02:12:10" and not exif.get_ifd(34853)
        assert exif.get_ifd(34665)[36881] == "+01:00"


@pytest.mark.django_db
def test_an_export_says_where_it_was_taken_and_how_large_it_will_be(desk, begun, tools):
    words = re.sub(r"\s+", " ", said(desk.get(reverse("finish-sizes", args=[begun.pk]))))
    assert (
        "At 800 × 600 px" in words
        and re.search(r"JPEG: [\d.]+.[KM]B at 97 \(usual\) · ", words)
        and "16-bit PNG:" in words
    )
    assert re.search(r"Story, 9:16, 1080 px: 338 × 600 px, 1080 px wide wanted", words)
    wishes = {"kind": "jpg", "destination": "story", "enlarge": "on", "place": "on", "quality": "80"}
    assert desk.post(reverse("export", args=[begun.pk]), wishes).status_code == 302
    made = Export.objects.get()
    export_finish(made.pk, tools)
    made.refresh_from_db()
    assert made.made_width == 1080 and "with the place, quality 80" in made.how
    place = Image.open(made.path).getexif().get_ifd(34853)
    site = begun.stack.take.site
    assert sum(float(v) / 60**i for i, v in enumerate(place[2])) == pytest.approx(abs(site.lat), abs=1e-4)


@pytest.mark.django_db
def test_wrong_wishes_for_an_export_say_what_is_wrong(desk, begun):
    for wishes, word in (({"kind": "gif"}, "gif"), ({"kind": "jpg", "width": "wide"}, "wide"), ({}, "kind")):
        answer = desk.post(reverse("export", args=[begun.pk]), wishes)
        assert answer.status_code == 400 and word in said(answer)
    assert not Export.objects.exists() and not Job.objects.exists()


@pytest.mark.django_db
def test_a_stack_without_a_picture_cannot_be_finished(desk, small_take):
    import shutil

    one = Stack.objects.create(owner=small_take.owner, take=small_take, frames=[1])
    shutil.rmtree(one.folder, ignore_errors=True)
    answer = desk.post(reverse("finish-new", args=[one.pk]))
    assert answer.status_code == 400 and "not stacked yet" in said(answer) and not Finish.objects.exists()


@pytest.mark.django_db
def test_the_stack_leaves_in_every_form_an_independent_reader_opens(desk, small_stack):
    import rawpy
    from astropy.io import fits

    def body(which):
        return io.BytesIO(
            b"".join(desk.get(reverse("stack-file", args=[small_stack.pk, which])).streaming_content)
        )

    linear = tifffile.imread(body("tiff"))
    assert linear.shape == (600, 800, 3) and linear.dtype == np.float32
    planes = fits.getdata(body("fits"))
    assert planes.shape == (3, 600, 800)
    assert np.allclose(
        np.moveaxis(planes, 0, -1)[::-1], linear, atol=1e-6
    )  # lowest row first, as FITS has it
    png = cv2.imdecode(np.frombuffer(body("png").read(), np.uint8), cv2.IMREAD_UNCHANGED)[..., ::-1]
    assert png.dtype == np.uint16 and np.abs(png / 65535 - np.clip(linear, 0, 1)).max() < 1e-4
    with rawpy.imread(body("dng")) as raw:
        assert raw.raw_image_visible.shape[:2] == (600, 800)
    mask = cv2.imdecode(np.frombuffer(body("mask").read(), np.uint8), cv2.IMREAD_GRAYSCALE)
    assert mask.shape == (600, 800) and (mask[:400] == 255).all() and (mask[590:] == 0).all()
    assert desk.get(reverse("stack-file", args=[small_stack.pk, "secrets"])).status_code == 404


@pytest.mark.django_db
def test_a_stack_and_a_frame_side_by_side_differ_in_their_grain_alone(desk, small_stack):
    frame = small_stack.take.frame_set.get(name=small_stack.report["reference"])
    page = said(desk.get(reverse("compare"), {"a": f"stack:{small_stack.pk}", "b": f"frame:{frame.pk}"}))
    assert "stack of 5" in page and "alike within the errors" in page and "times grainier" in page
    alone = said(desk.get(reverse("compare"), {"a": f"frame:{frame.pk}"}))
    assert alone.count("data-picture=") == 2  # the stack is what one most likely wants beside it


@pytest.mark.django_db
def test_progress_of_a_stack_only_rises_and_ends_with_the_looks(small_stack, tools):
    shutil.rmtree(small_stack.take.work)
    run_stack(small_stack.pk, tools)
    labels, shares = zip(*tools.progress.told, strict=True)
    assert list(shares) == sorted(shares) and shares[-1] <= 1
    first = {
        label: labels.index(label)
        for label in ("combining", "writing", "finding the field", "drawing before and after")
    }
    assert list(first.values()) == sorted(first.values())
    for name in ("before.jpg", "after.jpg", WORKING):
        assert (small_stack.folder / name).stat().st_size > 1000
    sizes = {Image.open(small_stack.folder / name).size for name in ("before.jpg", "after.jpg")}
    assert sizes == {(800, 600)}


def test_one_frame_is_developed_by_itself_and_finished(desk, small_take, tools):
    frame = small_take.frame_set.first()
    answer = desk.post(reverse("frame-finish", args=[frame.pk]))
    assert answer.status_code == 302
    one = Stack.objects.get(take=small_take)
    assert one.frames == [frame.pk] and str(one).endswith("one frame")
    again = desk.post(reverse("frame-finish", args=[frame.pk]))
    assert again.url == answer.url  # not developed twice
    run_stack(one.pk, tools)
    one.refresh_from_db()
    assert one.report["frames_used"] == 1
    Job.objects.filter(kind="stack", subject=one.pk).update(state=Job.DONE)
    page = said(desk.get(answer.url))
    assert "a single frame" in page and "1 frames" not in page and "Samples left out" not in page
    assert "data-at-once" in desk.get(answer.url).content.decode()
    begun = desk.post(reverse("finish-new", args=[one.pk]))
    assert "data-at-once" not in desk.get(answer.url).content.decode()  # begun once
    assert desk.post(reverse("frame-finish", args=[frame.pk])).url == begun.url
    page = said(desk.get(begun.url))
    assert "1 frame" in page and "1 frames" not in page and "White balance" in page


@pytest.mark.long("a picture of a phone is made, stacked and finished")
def test_a_picture_of_a_phone_is_finished_too(desk, nerea, tools, tmp_path):
    from scenes import Scene, developed

    take = Take.objects.create(owner=nerea, kind=Take.UPLOADED, title="Automatic mode")
    picture = developed(Scene(width=1008, height=756, focal=700.0, stars=2500), 5)
    out = io.BytesIO()
    Image.fromarray(picture).save(out, "JPEG", quality=95)
    answer = desk.post(reverse("upload", args=[take.pk]), {"file": upload("night.jpg", out.getvalue())})
    assert answer.status_code == 200
    measure_take(take.pk, tools)
    frame = take.frame_set.get()
    assert desk.post(reverse("frame-finish", args=[frame.pk])).status_code == 302
    one = Stack.objects.get(take=take)
    run_stack(one.pk, tools)
    finish = desk.post(reverse("finish-new", args=[one.pk])).url
    assert desk.get(finish).status_code == 200


def test_pictures_for_where_they_go_come_cut_and_sized(desk, begun, tools):
    given = {"kind": "jpg", "width": "", "destination": ["portrait", "story", "square"]}
    assert desk.post(reverse("export", args=[begun.pk]), given).status_code == 302
    made = list(Export.objects.filter(finish=begun).order_by("pk"))
    assert [e.width for e in made] == [1080] * 3
    for one, ratio in zip(made, (4 / 5, 9 / 16, 1.0), strict=True):
        export_finish(one.pk, tools)
        picture = Image.open(one.path)
        assert picture.width / picture.height == pytest.approx(ratio, rel=0.01)
    assert begun.recipe["geometry"]["ratio"] == "full"  # the finish itself stays as it is
    assert (
        desk.post(reverse("export", args=[begun.pk]), {**given, "destination": ["moon"]}).status_code == 400
    )
