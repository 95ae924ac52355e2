"""Phones, modes, station, field pages and rehearsal in the web rooms."""

import io
import json
import re
from dataclasses import replace

import cv2
import numpy as np
import pytest
from desk import said, upload
from django.urls import reverse
from PIL import Image

from vinter.web.gear.models import Phone
from vinter.web.rehearse.models import Rehearsal
from vinter.web.satellites.models import Elements
from vinter.web.shots.models import Shot

pytestmark = pytest.mark.django_db
JUNE = 1812588300


@pytest.fixture
def marlet(nerea):
    return Phone.objects.get(owner=nerea, key="marlet-7")


def jpeg_with(**exif):
    """A small JPEG whose EXIF says what is given."""
    picture = Image.fromarray(np.full((1200, 1600, 3), 90, np.uint8))
    block = Image.Exif()
    block[271], block[272] = "Tern", "Tern 3"
    inner = block.get_ifd(34665)
    tags = {"focal": 37386, "f35": 41989, "aperture": 33437}
    for name, value in exif.items():
        inner[tags[name]] = value
    out = io.BytesIO()
    picture.save(out, "JPEG", exif=block)
    return out.getvalue()


def test_a_phone_comes_from_a_photo(desk, nerea):
    answer = desk.post(
        reverse("phone-add"), {"file": upload("photo.jpg", jpeg_with(focal=6.0, f35=25, aperture=1.7))}
    )
    made = Phone.objects.get(owner=nerea, name="Tern 3")
    assert answer["Location"] == reverse("lens", args=[made.pk, "main"])
    lens = made.core().lens("main")
    assert (lens.focal, lens.f35, lens.aperture, lens.width) == (6.0, 25.0, 1.7, 1600)
    assert lens.pitch == pytest.approx(43.2666 * 6 / 25 * 1000 / 2000, abs=0.01)
    bad = desk.post(reverse("phone-add"), {"file": upload("photo.jpg", jpeg_with(focal=6.0))})
    assert bad.status_code == 400 and "35 mm equivalent and f-number" in said(bad)


def test_phones_go_out_as_json_and_come_in_again(desk, nerea, marlet):
    text = desk.get(reverse("phone-export", args=[marlet.pk])).content
    desk.post(reverse("phone-add"), {"file": upload("phone.json", text)})
    again = Phone.objects.get(owner=nerea, key="marlet-7-2")
    assert again.core().lenses == marlet.core().lenses
    assert "phone.json" in said(desk.post(reverse("phone-add"), {"file": upload("phone.json", b"{}")}))
    desk.post(reverse("phone-add"), {"kind": "generic-large"})
    assert Phone.objects.filter(owner=nerea, key="generic-large").exists()
    desk.post(reverse("phone-delete", args=[again.pk]))
    assert not Phone.objects.filter(pk=again.pk).exists()
    assert (
        desk.post(reverse("phone-delete", args=[marlet.pk])).status_code == 400
    )  # a shot was planned with it


def test_a_lens_is_changed_within_bounds(desk, marlet):
    url = reverse("lens", args=[marlet.pk, "tele"])
    fields = dict(re.findall(r'name="(\w+)" value="([^"]*)"', said(desk.get(url))))
    form = {**fields, "bits": "12", "manual": "on", "iso_manual": "800", "infinity_ticks": "9"}
    assert desk.post(url, form).status_code == 302
    lens = Phone.objects.get(pk=marlet.pk).core().lens("tele")
    assert (lens.iso_manual, lens.infinity_ticks, lens.read_noise) == (
        800,
        9,
        marlet.core().lens("tele").read_noise,
    )
    assert "pixel pitch 99 is not within" in said(desk.post(url, {**form, "pitch": "99"})).lower()


def test_a_lens_is_measured_from_frames(desk, marlet, tmp_path):
    from dataclasses import replace

    from vinter.core.simulate.calibration_frames import darks, flats

    lens = replace(marlet.core().lens("main"), width=1008, height=756)
    files = [upload(p.name, p.read_bytes()) for p in flats(lens, 100, 0.3, 2, tmp_path)]
    page = said(desk.post(reverse("measured", args=[marlet.pk, "main", "flats"]), {"files": files}))
    assert "gain" in page
    fresh = Phone.objects.get(pk=marlet.pk).core().lens("main")
    assert fresh.full_well == pytest.approx(lens.full_well, rel=0.06) and "gain" in fresh.measured
    files = [upload(p.name, p.read_bytes()) for p in darks(lens, 1600, 10, 3, tmp_path)]
    desk.post(reverse("measured", args=[marlet.pk, "main", "darks"]), {"files": files})
    fresh = Phone.objects.get(pk=marlet.pk).core().lens("main")
    assert (
        fresh.noise_at(1600) == pytest.approx(np.hypot(1.5, np.sqrt(0.5)), rel=0.1)
        and "read noise" in fresh.measured
    )
    pictures = [upload("a.jpg", jpeg_with()), upload("b.jpg", jpeg_with())]
    wrong = desk.post(reverse("measured", args=[marlet.pk, "main", "darks"]), {"files": pictures})
    assert wrong.status_code == 400 and "not a Bayer RAW" in said(wrong)
    assert "4 to 24 files" in said(
        desk.post(reverse("measured", args=[marlet.pk, "main", "infinity"]), {"ticks": ""})
    )


def test_a_shot_in_another_mode_reaches_the_card(desk, mill, marlet):
    url = reverse("shot-new", args=[mill.pk])
    page = said(desk.get(f"{url}?t={JUNE}&mode=lamp"))
    assert "Lamp to ground, m" in page and "inverse" not in page and "Never into a face" in page
    data = {
        "t": JUNE,
        "lens": f"{marlet.pk}:main",
        "use": "screen",
        "mode": "trails",
        "o_hours": "2",
        "o_gap": "1",
        "save": "1",
    }
    desk.post(url, data)
    shot = Shot.objects.latest("id")
    assert (shot.mode, shot.frames, shot.shutter) == ("trails", 233, 30) and shot.options["hours"] == 2
    assert shot.minutes == pytest.approx(233 * 31 / 60, abs=0.5)
    assert "Gap between frames, at most" in said(desk.get(reverse("card", args=[shot.pk])))
    assert "not within" in said(desk.post(url, {**data, "o_hours": "99"}))


def test_the_drift_picture_equals_the_projection_at_nine_points(shot):
    """The core's rate at the middle is 15.041 cos(dec) of its own direction; corners by the rotation of rays
    about the pole."""
    from vinter.core.camera.projection import unproject, view_of

    view = view_of(shot.core_lens, shot.pose, shot.portrait)
    flat = type(view)(view.width, view.height, view.focal_px, 0.0, view.pose)
    lat = np.radians(shot.site.lat)
    pole = np.array([0.0, np.cos(lat), np.sin(lat)])
    rate = np.radians(15.041 / 3600)
    for i, y in enumerate((0, (view.height - 1) / 2, view.height - 1)):
        for j, x in enumerate((0, (view.width - 1) / 2, view.width - 1)):
            ray = unproject(flat, np.array([float(x)]), np.array([float(y)]))[0]
            moved = ray + np.cross(rate * pole, ray) * 1e-3
            a, b = ((r @ flat.axes.T)[:2] / (r @ flat.axes.T)[2] * view.focal_px for r in (ray, moved))
            drift = np.hypot(*(b - a)) / 1e-3 * shot.exposure["shutter"]["chosen"]
            assert shot.plan["trail_map"][4 * i][4 * j] == pytest.approx(drift, abs=0.02)


def test_station_passes_come_from_own_elements(desk, mill, nerea):
    page = said(desk.get(reverse("station", args=[mill.pk]) + "?day=2027-06-09"))
    assert "This station does not exist" in page and "Made-up station" in page
    planned = said(desk.get(reverse("shot-new", args=[mill.pk]) + f"?t={JUNE - 12000}&mode=station"))
    assert "Open as it appears" in planned or "Highest" in planned
    from datetime import date

    from vinter.core.sky.satellites import made_up

    desk.post(
        reverse("station-import", args=[mill.pk]),
        {"file": upload("own.json", made_up(date(2027, 6, 8))), "day": "2027-06-09"},
    )
    assert Elements.objects.get(owner=nerea).name == "own.json"
    assert "From own.json" in said(desk.get(reverse("station", args=[mill.pk]) + "?day=2027-06-09"))
    bad = desk.post(
        reverse("station-import", args=[mill.pk]), {"file": upload("x.tle", b"nothing"), "day": "2027-06-09"}
    )
    assert bad.status_code == 400 and Elements.objects.count() == 1


def test_the_card_as_pdf_is_red_on_black(desk, shot, tmp_path):
    data = desk.get(reverse("card-pdf", args=[shot.pk])).content
    assert data.startswith(b"%PDF") and data.count(b"/Type /Page\n") == 1
    import zlib

    streams = b"".join(
        zlib.decompress(s)
        for s in re.findall(rb"stream\r?\n(.*?)\r?\nendstream", data, re.S)
        if s[:1] == b"x"
    )
    colours = {
        tuple(float(v) for v in m) for m in re.findall(rb"([\d.]+) ([\d.]+) ([\d.]+) (?:rg|RG)", streams)
    }
    assert colours and all(g == b == 0 for _, g, b in colours)
    text = streams.decode("latin-1")
    for part in ("Tide mill", "4 ticks", "1600", "10 s", "The dyke floods"):
        assert part.split()[0] in text


def test_the_qr_code_opens_the_card_without_signing_in(desk, client, shot):
    svg = said(desk.get(reverse("card-qr", args=[shot.pk])))
    assert svg.lstrip().startswith("<?xml") or "<svg" in svg
    from django.test import Client

    from vinter.web.field.models import ticket_of

    stranger = Client()
    page = stranger.get(reverse("card-open", args=[ticket_of(shot).code]))
    assert page.status_code == 200 and "4 ticks" in said(page)
    assert not re.search(r'(src|href)="(?!data:)', said(page)) and "url(/" not in said(page)
    assert stranger.get(reverse("card-open", args=[ticket_of(shot).code[:-2] + "xx"])).status_code == 404


@pytest.mark.long("a phone is rehearsed and its frame simulated")
def test_the_test_shot_gets_one_change(desk, shot, tmp_path):
    from vinter.core.formats.dng import write_dng
    from vinter.core.rehearse.exercises import exercise
    from vinter.core.simulate.modes import PhoneSettings, press
    from vinter.core.simulate.phone import SimulatedPhone

    burst = exercise("thirty").burst()
    burst = replace(burst, lens=replace(burst.lens, width=2016, height=1512))  # the middle of the sensor
    for seconds, part in ((30.0, "shutter 20 s"), (10.0, "Shoot the real frames")):
        shown = press(burst, PhoneSettings(iso=1600, shutter=seconds, ticks=4), None, 2)
        path = tmp_path / f"{seconds}.dng"
        write_dng(
            path, shown.mosaic, SimulatedPhone(shown.burst).info(0), np.zeros((60, 80, 3), np.uint8), True
        )
        page = said(
            desk.post(reverse("check", args=[shot.pk]), {"file": upload(path.name, path.read_bytes())})
        )
        assert part in page and 'id="aimed"' in page and "another night" in page
    bad = desk.post(reverse("check", args=[shot.pk]), {"file": upload("a.jpg", b"nothing here")})
    assert bad.status_code == 400 and "a.jpg" in said(bad)


def test_the_pack_list_is_remembered(desk, shot):
    url, change = reverse("pack", args=[shot.pk]), reverse("pack-change", args=[shot.pk])
    assert "Boots" in said(desk.get(url))  # the site speaks of a tide
    for given in (
        {"do": "add", "text": "Spare glasses"},
        {"do": "pack", "key": "own-spare-glasses"},
        {"do": "pack", "key": "own-spare-glasses"},  # from two phones: packed it stays
        {"do": "leave", "key": "cloth"},
        {"do": "together"},
    ):
        assert desk.post(change, given).status_code == 302
    page = said(desk.get(url))
    assert (
        "Spare glasses" in page
        and 'aria-pressed="true"' in page
        and "Lens cloth" not in page
        and "whistle" not in page
    )
    assert desk.post(change, {"do": "burn", "text": "x"}).status_code == 400


def test_a_rehearsal_goes_on_until_the_coach_is_content(desk, nerea):
    desk.post(reverse("rehearse-begin", args=["thirty"]))
    go = Rehearsal.objects.get(owner=nerea)
    form = {"iso": 1600, "shutter": 30, "ticks": 4, "kelvin": 4200, "mode": "raw", "delay": 3, "lamp": 0}
    page = said(desk.post(reverse("rehearse-press", args=[go.pk]), form))
    assert "trail" in page and "shutter 20 s" in page
    picture = cv2.imdecode(
        np.frombuffer(desk.get(reverse("rehearse-picture", args=[go.pk])).content, np.uint8), 1
    )
    glass = cv2.imdecode(
        np.frombuffer(desk.get(reverse("rehearse-loupe", args=[go.pk]) + "?x=0.3&y=0.3").content, np.uint8), 1
    )
    assert picture.shape == (1512, 2016, 3) and glass.shape == (420, 640, 3)
    page = said(desk.post(reverse("rehearse-press", args=[go.pk]), {**form, "shutter": 10}))
    assert "Passed with 2 test shots" in page
    assert desk.post(reverse("rehearse-press", args=[go.pk]), form).status_code == 400
    assert "1, passed" in said(desk.get(reverse("rehearse")))
    desk.post(reverse("rehearse-begin", args=["mist"]))
    mist = Rehearsal.objects.filter(owner=nerea).first()
    desk.post(reverse("rehearse-leave", args=[mist.pk]))
    assert Rehearsal.objects.get(pk=mist.pk).passed


def test_what_is_prepared_by_another_does_not_exist(client, nerea, stranger, shot, marlet, mill):
    go = Rehearsal.objects.create(owner=nerea, exercise="first")
    client.force_login(stranger)
    gets = [
        reverse(n, args=[shot.pk]) for n in ("card-pdf", "card-qr", "timer", "check", "pack", "rehearse-shot")
    ]
    gets += [reverse(n, args=[go.pk]) for n in ("rehearsal", "rehearse-picture", "rehearse-loupe")]
    gets += [reverse(n, args=[marlet.pk]) for n in ("phone", "phone-export", "lens-new")]
    gets += [reverse(n, args=[marlet.pk, "main"]) for n in ("lens", "calibrate")] + [
        reverse("station", args=[mill.pk]) + "?day=2027-06-09"
    ]
    posts = [
        reverse("pack-change", args=[shot.pk]),
        reverse("rehearse-press", args=[go.pk]),
        reverse("rehearse-leave", args=[go.pk]),
        reverse("phone-delete", args=[marlet.pk]),
        reverse("measured", args=[marlet.pk, "main", "darks"]),
        reverse("check", args=[shot.pk]),
        reverse("station-import", args=[mill.pk]),
    ]
    assert [u for u in gets if client.get(u).status_code != 404] == []
    assert [u for u in posts if client.post(u).status_code != 404] == []
    assert json.loads(said(client.get(reverse("field-manifest"))))["scope"] == "/"
