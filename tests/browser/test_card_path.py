"""A whole memory card in a real browser: thirty files of all kinds to the bench, the painted mask, stacks,
trails and downloads."""

import re
from dataclasses import replace

import cv2
import numpy as np
import pillow_heif
import pytest
import rawpy
import tifffile
from astropy.io import fits
from PIL import Image
from playwright.sync_api import expect
from starfield import BLACK, Field, draw, make, places, write

from vinter.core.formats.lineardng import write_linear_dng

LONG, COUNT = 240_000, 10
SPEC = Field(count=COUNT, width=900, height=680, focal=720.0, stars=380, angle=0.14, exposure=8.0, streak=6)


def card(folder):
    """32 files; returns the rays of the stars and their flux."""
    rng = np.random.default_rng(8)
    _, rays, flux = make(folder, SPEC)
    (folder / "spec.txt").unlink()

    def even(name, level, noise, seconds):
        mosaic = (
            np.round(BLACK + level + rng.normal(0, noise, (SPEC.height, SPEC.width)))
            .clip(0, 16383)
            .astype(np.uint16)
        )
        write(folder / name, mosaic, replace(SPEC, exposure=seconds))

    for i in range(6):
        even(f"dark_{i}.dng", 0, 4, 8.0)
    even("bias_0.dng", 0, 2, 0.001)
    for i in range(2):
        even(f"flat_{i}.dng", 5000, 40, 0.4)
    for i in range(2):
        empty = np.empty((0, 3)), np.empty(0)
        write(
            folder / f"land_{i}.dng",
            draw(replace(SPEC, gain={0: 8.0}, exposure=None), *empty, 0, rng, np.empty(0, int)),
            SPEC,
        )
    write(
        folder / "test.dng",
        draw(replace(SPEC, exposure=None), rays, flux, 20, rng, np.empty(0, int)),
        replace(SPEC, exposure=2.0),
    )
    sky = draw(replace(SPEC, exposure=None), rays, flux, 2, rng, np.empty(0, int)).astype(float)
    half = np.clip((sky[::2, 1::2] - BLACK) / 3000, 0, 1) ** (1 / 2.2)
    picture = Image.fromarray(np.repeat(np.round(255 * half).astype(np.uint8)[..., None], 3, axis=2))
    picture.save(folder / "IMG_0003.jpg", quality=92)
    picture.save(folder / "shared.png")
    pillow_heif.from_pillow(picture).save(folder / "album.heic")
    tifffile.imwrite(
        folder / "deep.tif",
        np.repeat((half * 65535).astype(np.uint16)[..., None], 3, axis=2),
        photometric="rgb",
    )
    write_linear_dng(
        folder / "merged.dng",
        np.repeat((half.astype(np.float32) * 0.4)[..., None], 3, axis=2),
        (1.0, 1.0, 1.0),
        np.eye(3),
    )
    whole = (folder / "IMG_0005.dng").read_bytes()
    (folder / "cut.dng").write_bytes(whole[:9000])
    (folder / "again.dng").write_bytes(whole)
    (folder / "empty.dng").write_bytes(b"")
    (folder / "notes.jpg").write_text("meet at nine")
    return rays, flux


def downloaded(page, name, path):
    with page.expect_download() as download:
        page.get_by_role("link", name=name).click()
    download.value.save_as(path)
    return path


def hits(picture, at):
    """Share of places with a peak well above what lies around them."""
    found = 0
    for x, y in at:
        c, r = round(float(x)), round(float(y))
        near, around = picture[r - 2 : r + 3, c - 2 : c + 3], picture[r - 15 : r + 16, c - 15 : c + 16]
        found += near.max() > np.median(around) + 8 * 1.4826 * np.median(np.abs(around - np.median(around)))
    return found / len(at)


@pytest.mark.long("thirty files are uploaded, measured, sorted and stacked by a real worker")
@pytest.mark.django_db(transaction=True)
def test_thirty_files_to_a_stack(page, worker, tmp_path):
    rays, flux = card(tmp_path)
    files = sorted(tmp_path.iterdir())
    assert len(files) >= 30
    worker.start()
    page.goto("/")
    page.get_by_role("button", name="Enter as Nerea").click()
    page.get_by_role("link", name="Takes").click()
    page.get_by_role("button", name="Add frames").click()
    page.locator("#files").set_input_files(files)
    expect(page.get_by_role("button", name="Stack them")).to_be_visible(timeout=LONG)

    # every file has its answer: the copy is kept once, the empty one and the text are refused with the reason
    told = page.locator("#refused li").all_inner_texts()
    assert "empty.dng: the file is empty" in told and any(
        re.search("(again|IMG_0005).dng: already here, kept once", t) for t in told
    )
    assert any(t.startswith("notes.jpg: ") for t in told) and len(told) == 3
    expect(page.locator(".frame")).to_have_count(len(files) - 3)
    cut = page.locator(".frame").filter(has=page.get_by_title("cut.dng", exact=True))
    expect(cut).to_contain_text("Drop: cut.dng: ")
    expect(cut.get_by_role("button", name="Keep")).to_be_disabled()

    # each is taken for what it is; a wrong guess is overruled
    def type_of(name):
        return (
            page.locator(".frame")
            .filter(has=page.get_by_title(name, exact=True))
            .locator("[name=frame_type]")
        )

    taken_for = {
        "dark_1.dng": "dark",
        "bias_0.dng": "bias",
        "flat_0.dng": "flat",
        "test.dng": "test",
        "merged.dng": "automatic",
        "IMG_0003.jpg": "twin",
        "IMG_0009.dng": "sky",
    }
    for name, sort in taken_for.items():
        expect(type_of(name)).to_have_value(sort)
    overruled = {
        "land_0.dng": "ground",
        "land_1.dng": "ground",
        "shared.png": "twin",
        "album.heic": "twin",
        "deep.tif": "twin",
    }
    for name, sort in overruled.items():
        if type_of(name).input_value() != sort:
            with page.expect_response(re.compile("/type/")):
                type_of(name).select_option(sort)
            expect(type_of(name)).to_have_value(sort)
    page.reload()  # the choices for the ground follow from what the frames are
    expect(page.locator("#stackable")).to_have_text(str(COUNT))

    # a stack with the ground's own frames
    page.locator("#ground").select_option(label="from the ground frames")
    page.get_by_role("button", name="Stack them").click()
    expect(page.get_by_role("button", name="Finish it")).to_be_visible(timeout=LONG)
    expect(page.get_by_text(f"{COUNT} of {COUNT}", exact=True)).to_be_visible()
    expect(page.get_by_text("2 ground frames", exact=True)).to_be_visible()
    assert float(page.locator("aside .big").inner_text().split()[0]) == pytest.approx(
        np.sqrt(COUNT), rel=0.12
    )
    first, shown = page.url, page.request.get(page.locator("#compare").get_attribute("data-after")).body()

    # a picture of the report at 100 %
    page.get_by_role("button", name="Sky mask: white is sky").click()
    expect(page.locator("#loupe img")).to_be_visible()
    assert page.locator("#loupe img").evaluate("i => i.getBoundingClientRect().width") == SPEC.width
    page.keyboard.press("Escape")
    expect(page.locator("#loupe img")).to_be_hidden()

    # the mask painted by hand: a corner of the sky becomes ground
    page.get_by_role("link", name="Paint the mask by hand").click()
    canvas = page.locator("#paint")
    expect(canvas).to_be_visible()
    page.wait_for_load_state("networkidle")
    page.get_by_label("ground", exact=True).check()
    box = canvas.bounding_box()
    with page.expect_response(re.compile("/paint/try/")):
        page.mouse.move(box["x"] + 0.1 * box["width"], box["y"] + 0.1 * box["height"])
        page.mouse.down()
        page.mouse.move(box["x"] + 0.3 * box["width"], box["y"] + 0.12 * box["height"], steps=8)
        page.mouse.up()
    page.get_by_role("button", name="Stack again with this mask").click()
    expect(page.get_by_role("button", name="Finish it")).to_be_visible(timeout=LONG)
    assert page.url != first
    expect(page.get_by_text("(this one was)")).to_be_visible()
    address = page.locator("[data-loupe]").first.get_attribute("data-loupe")
    mask = cv2.imdecode(np.frombuffer(page.request.get(address).body(), np.uint8), cv2.IMREAD_GRAYSCALE)
    assert (
        mask[int(0.11 * SPEC.height), int(0.2 * SPEC.width)] == 0
        and mask[int(0.5 * SPEC.height), int(0.2 * SPEC.width)] == 255
    )

    # one thing changed: what did not change is kept
    page.goto(first)
    page.get_by_text("Stack these frames another way").click()
    page.locator("#method").select_option(label="median")
    page.get_by_role("button", name="Stack again").click()
    expect(page.get_by_role("button", name="Finish it")).to_be_visible(timeout=LONG)
    expect(page.get_by_text(f"{COUNT} frames, registration, mask", exact=True)).to_be_visible()
    assert page.request.get(page.locator("#compare").get_attribute("data-after")).body() != shown

    # what is carried away opens elsewhere and has the stars in their places
    names = {
        "tif": "Linear picture, 32-bit TIFF",
        "fits": re.compile("^FITS"),
        "dng": "linear DNG",
        "png": "16-bit PNG",
    }
    got = {kind: downloaded(page, name, tmp_path / f"out.{kind}") for kind, name in names.items()}
    picture = tifffile.imread(got["tif"])
    with fits.open(got["fits"]) as file:
        assert np.allclose(file[0].data[1], picture[..., 1], atol=1e-5) or np.allclose(
            file[0].data[1], picture[::-1, :, 1], atol=1e-5
        )
    with rawpy.imread(str(got["dng"])) as raw:
        assert raw.raw_image.shape[:2] == picture.shape[:2]
    deep = cv2.imread(str(got["png"]), cv2.IMREAD_UNCHANGED)
    assert (
        deep.dtype == np.uint16 and np.abs(deep[..., 1] / 65535 - np.clip(picture[..., 1], 0, 1)).max() < 1e-4
    )
    page.get_by_text("The same as numbers").click()
    reference = page.locator(".rows div").filter(has_text="Reference").locator("span").nth(1).inner_text()
    at = places(SPEC, rays, int(reference[4:8]))[np.argsort(-flux)[:120]]
    at = at[(at > 20).all(axis=1) & (at < [SPEC.width - 20, 0.7 * SPEC.height]).all(axis=1)]
    assert (
        len(at) > 30
        and hits(picture[..., 1], at) > 0.95
        and hits(picture[..., 1], at + np.array([19, 11])) < 0.4
    )

    # the same frames as trails
    page.get_by_text("Stack these frames another way").click()
    page.locator("#method").select_option(label="star trails")
    page.get_by_role("button", name="Stack again").click()
    expect(page.get_by_role("button", name="Finish it")).to_be_visible(timeout=LONG)
    expect(page.locator("aside").get_by_text("combined by the brightest of each place")).to_be_visible()
    expect(page.get_by_text(re.compile("Pauses closed along the motion"))).to_be_visible()
    trails = tifffile.imread(downloaded(page, names["tif"], tmp_path / "trails.tif"))
    along = np.array([places(SPEC, rays, i)[np.argsort(-flux)[:12]] for i in range(COUNT)])
    inside = ((along > 20) & (along < [SPEC.width - 20, 0.7 * SPEC.height])).all(axis=(0, 2))
    assert inside.sum() > 3 and np.mean([hits(trails[..., 1], along[i][inside]) for i in range(COUNT)]) > 0.9

    # side by side with one of the frames
    page.goto(first)
    page.get_by_role("link", name="Side by side with another frame or stack").click()
    page.get_by_label("Second").select_option(label="IMG_0004.dng")
    expect(page.locator("#pair img").nth(1)).to_have_attribute("src", re.compile("/full.jpg"))
    expect(
        page.get_by_text(re.compile(r"The sky in the right one is \d\.\d\d times grainier"))
    ).to_be_visible()
    assert [f for f in page.faults if "400 (Bad Request)" not in f] == [] and len(
        page.faults
    ) == 1  # the text that is no picture
