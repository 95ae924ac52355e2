"""Pictures shared with the installed phone: without signal and signed out they wait, and arrive once."""

import pytest
from django.urls import reverse
from playwright.sync_api import expect
from starfield import Field, make

from vinter.web.shots.models import Shot
from vinter.web.takes.models import Frame, Take

# What the phone does when pictures are shared with an installed page: a form, sent as a navigation.
SHARE = """
async (files) => {
  const form = document.createElement("form");
  Object.assign(form, {method: "post", enctype: "multipart/form-data", action: "/field/share/"});
  const input = Object.assign(document.createElement("input"), {type: "file", name: "files", multiple: true});
  const held = new DataTransfer();
  for (const [name, data] of files) {
    const bytes = Uint8Array.from(atob(data), (c) => c.charCodeAt(0));
    held.items.add(new File([bytes], name, {type: "image/x-adobe-dng"}));
  }
  input.files = held.files;
  form.append(input);
  document.body.append(form);
  form.submit();
}
"""


@pytest.fixture(scope="module")
def pictures(tmp_path_factory):
    import base64

    folder = tmp_path_factory.mktemp("shared")
    make(folder, Field(count=4, width=400, height=300, stars=60, focal=300.0))
    paths = sorted(folder.glob("*.dng"))
    return [(p.name, base64.b64encode(p.read_bytes()).decode()) for p in paths]


def kept(page, nerea):
    """A phone that has opened a card once."""
    page.set_viewport_size({"width": 390, "height": 844})
    page.goto("/")
    page.get_by_role("button", name="Enter as Nerea").click()
    page.goto(reverse("card", args=[Shot.objects.get(owner=nerea).pk]))
    page.locator("html[data-kept=yes]").wait_for(timeout=20_000)


@pytest.mark.long("three shares, one without signal and one signed out")
@pytest.mark.django_db(transaction=True)
def test_shared_pictures_wait_without_signal_and_signed_out_and_arrive_once(page, nerea, pictures):
    kept(page, nerea)
    before = Take.objects.count()
    page.evaluate(SHARE, pictures[:2])
    page.wait_for_url("**/takes/*/", timeout=20_000)
    assert Take.objects.count() == before + 1 and Frame.objects.filter(name__in=dict(pictures)).count() == 2

    page.goto(reverse("cards"))
    page.context.set_offline(True)
    page.evaluate(SHARE, pictures[2:3])
    expect(page.locator("#shared")).to_contain_text("1 picture waits on this phone", timeout=20_000)
    page.context.set_offline(False)
    page.get_by_role("button", name="Send them now").or_(page.locator("h1")).first.click()
    page.wait_for_url("**/takes/*/", timeout=20_000)
    assert Take.objects.count() == before + 2

    page.goto(reverse("cards"))
    page.evaluate(SHARE, [pictures[2], ("torn.dng", "AAAA")])
    expect(page.locator("#shared")).to_contain_text("1 of the shared pictures was not kept", timeout=20_000)
    expect(page.locator("#reasons")).to_contain_text("torn.dng")
    page.get_by_role("link", name="The take of the others").click()
    page.wait_for_url("**/takes/*/", timeout=20_000)
    assert Take.objects.count() == before + 3

    page.goto(reverse("cards"))
    page.context.clear_cookies()  # the session ended out there
    page.evaluate(SHARE, pictures[3:])
    page.wait_for_url("**/sign-in/**", timeout=20_000)
    page.get_by_role("button", name="Enter as Nerea").click()
    page.goto(reverse("share"))
    page.wait_for_url("**/takes/*/", timeout=20_000)
    assert Take.objects.count() == before + 4
    assert Frame.objects.filter(name__in=dict(pictures)).count() == 5
    page.goto(reverse("share"))
    expect(page.locator("#shared")).to_contain_text("No picture waits on this phone")
