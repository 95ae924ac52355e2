"""What is wrong with a file is said at the form it was chosen in, and nothing typed is lost."""

import re

import pytest
from playwright.sync_api import expect
from starfield import Field, make


@pytest.mark.django_db(transaction=True)
def test_a_wrong_file_is_named_where_it_was_chosen_and_a_good_one_goes_on(page, shot, tmp_path):
    page.goto("/")
    page.get_by_role("button", name="Enter as Nerea").click()
    page.goto(f"/gear/{shot.phone_id}/lens/main/measure/")
    wrong = [tmp_path / f"notes{i}.dng" for i in range(4)]
    for path in wrong:
        path.write_bytes(b"these are notes, no frame")
    form = page.locator("form", has=page.locator("#ticks"))
    form.locator("input[type=file]").set_input_files(wrong)
    page.get_by_label(re.compile("Ticks back")).fill("2 3 4 5")
    form.locator("button").click()
    expect(form.get_by_role("alert")).to_contain_text("notes")
    assert page.url.endswith("/measure/")
    expect(page.get_by_label(re.compile("Ticks back"))).to_have_value("2 3 4 5")
    assert form.locator("input[type=file]").evaluate("(i) => i.files[0].name") == "notes0.dng"

    # too few files: the sentence of the form replaces the one before
    (tmp_path / "frames").mkdir()
    make(tmp_path / "frames", Field(count=2, width=400, height=300, stars=120, focal=300.0))
    form.locator("input[type=file]").set_input_files(sorted((tmp_path / "frames").glob("*.dng")))
    form.locator("button").click()
    expect(form.get_by_role("alert")).to_contain_text("2 files but 4 ticks")
    expect(form.get_by_role("alert")).to_have_count(1)

    # a file that is all right leads on, and a page that comes at once is shown
    page.goto("/takes/doctor/")
    page.locator("input[type=file]").set_input_files(sorted((tmp_path / "frames").glob("*.dng"))[:1])
    page.locator("form[enctype] button").click()
    expect(page.get_by_text(re.compile("Bayer")).first).to_be_visible()
