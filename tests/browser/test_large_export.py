"""A picture as large as phones take them, with a solved field, leaves the finish whole."""

import re
from dataclasses import replace
from io import BytesIO

import cv2
import numpy as np
import pytest
from fields import TURNS, fields_of
from PIL import Image
from playwright.sync_api import expect

SIZE = (4032, 3024)


@pytest.fixture
def large_stack(nerea, shot, transactional_db):
    """A clean field of 3 MP, doubled, as a stack that knows its sky."""
    from vinter.core.stack.file import About, write_stack
    from vinter.web.stacks.models import Stack
    from vinter.web.takes.models import Take

    panel = fields_of(TURNS[1:2])[0]
    field = replace(panel.field, focal_px=2 * panel.field.focal_px, width=SIZE[0], height=SIZE[1])
    take = Take.objects.create(owner=nerea, shot=shot, kind=Take.UPLOADED, title="Large")
    stack = Stack.objects.create(owner=nerea, take=take, frames=[], report={"frames_used": 200})
    stack.folder.mkdir(parents=True, exist_ok=True)
    write_stack(
        stack.folder / "stack.tif",
        cv2.resize(panel.rgb, SIZE, interpolation=cv2.INTER_LINEAR),
        (255 * cv2.resize(panel.sky, SIZE)).astype(np.uint8),
        About(frames=200, solved=field, unix=panel.unix),
    )
    return stack


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
    # the whole of it was developed: the sky shines in every part, and no row or column is a copy of the last
    upper = cv2.resize(picture[: SIZE[1] // 2], (8, 4), interpolation=cv2.INTER_AREA)
    assert upper.min() > 10 and upper.max() < 200
    assert (np.ptp(picture[::97].astype(int), axis=1) > 20).all()
    assert page.faults == []
