"""A picture as large as phones take them, with a solved field, leaves the finish whole."""

import re
from dataclasses import asdict, replace
from io import BytesIO

import cv2
import numpy as np
import pytest
from fields import TURNS, fields_of
from PIL import Image
from playwright.sync_api import expect

from vinter.core.stack.file import About, write_stack
from vinter.web.stacks.working import working_copy

SIZE = (4032, 3024)


@pytest.fixture
def large_stack(small_stack):
    """The small stack with the picture of a clean field of 3 MP, doubled, that knows its sky."""
    panel = fields_of(TURNS[1:2])[0]
    field = replace(panel.field, focal_px=2 * panel.field.focal_px, width=SIZE[0], height=SIZE[1])
    write_stack(
        small_stack.picture,
        cv2.resize(panel.rgb, SIZE, interpolation=cv2.INTER_LINEAR),
        (255 * cv2.resize(panel.sky, SIZE)).astype(np.uint8),
        About(frames=200, solved=field, unix=panel.unix),
    )
    small_stack.report["field"] = asdict(field)
    small_stack.save(update_fields=["report"])
    working_copy(small_stack)
    return small_stack


@pytest.mark.long("a picture of 12 MP is developed and exported by a real worker")
@pytest.mark.django_db(transaction=True)
def test_a_picture_of_twelve_megapixels_is_exported(page, worker, large_stack):
    worker.start()
    page.goto("/")
    page.get_by_role("button", name="Enter as Nerea").click()
    page.goto(f"/stacks/{large_stack.pk}/")
    page.get_by_role("button", name="Finish it").click()
    expect(page.locator("#picture[data-ready=full]")).to_be_visible(timeout=60_000)
    page.locator(".rung summary", has_text="Export").first.click()
    page.get_by_label("As", exact=True).select_option(label="JPEG")
    page.get_by_role("button", name="Export", exact=True).click()
    link = page.get_by_role("link", name=re.compile(r"^JPEG, 4032 × 3024 px"))
    expect(link).to_be_visible(timeout=120_000)
    answer = page.request.get(link.get_attribute("href"))
    picture = np.asarray(Image.open(BytesIO(answer.body())))
    assert picture.shape == (SIZE[1], SIZE[0], 3)
    # the whole of it was developed: the sky shines in every part, and its rows hold stars
    upper = picture[: SIZE[1] // 2]
    parts = cv2.resize(upper, (8, 4), interpolation=cv2.INTER_AREA)
    assert parts.min() > 10 and parts.max() < 200
    assert (np.ptp(upper[::97].max(axis=2).astype(int), axis=1) > 60).all()
    assert page.faults == []
