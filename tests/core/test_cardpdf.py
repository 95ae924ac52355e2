"""The card as PDF, read with nothing but zlib: what it says, in which colours, on how many pages."""

import re
import zlib

import pytest

from vinter.core.formats.cardpdf import CardText, card_pdf

TIMES = [("Core best", "01:45 23°"), ("Moon sets", "00:59"), ("Dawn", "04:19")]
CHECKS = [("Main lens, RAW on", ""), ("ISO", "1600"), ("Shutter", "10 s"), ("Point to", "az 174° up 19°")]
CARD = CardText(
    "Tide mill", "Wed 9 Jun, 01:45", TIMES, CHECKS, ["The dyke floods at spring tide.", "Cloud? go home."]
)


def streams(data):
    """The page's drawing commands."""
    out = []
    for found in re.finditer(rb"stream\r?\n(.*?)\r?\nendstream", data, flags=re.DOTALL):
        try:
            out.append(zlib.decompress(found.group(1)).decode("latin-1"))
        except zlib.error:
            out.append(found.group(1).decode("latin-1"))
    return "\n".join(out)


def texts(data):
    return [re.sub(r"\\(.)", r"\1", t) for t in re.findall(r"\(((?:\\.|[^()\\])*)\) Tj", streams(data))]


def test_all_that_the_card_says_is_on_its_one_page():
    data = card_pdf(CARD)
    assert data.startswith(b"%PDF") and len(re.findall(rb"/Type /Page\b", data)) == 1
    said = texts(data)
    wanted = [CARD.title, CARD.line, *(w for pair in [*TIMES, *CHECKS] for w in pair if w)]
    assert [w for w in wanted if w not in said] == []
    together = " ".join(said)
    assert "The dyke floods at spring tide." in together and "Cloud? go home." in together


def test_nothing_but_red_on_black():
    commands = streams(card_pdf(CARD))
    colours = {tuple(map(float, c)) for c in re.findall(r"([\d.]+) ([\d.]+) ([\d.]+) (?:rg|RG)\b", commands)}
    greys = {float(g) for g in re.findall(r"(?<![\d.] )\b([\d.]+) [gG]\b", commands)}
    assert colours and all(g == b == 0 for _, g, b in colours) and greys <= {0.0}
    assert max(r for r, _, _ in colours) == pytest.approx(208 / 255, abs=1e-3)


@pytest.mark.parametrize("count", [1, 12, 30])
def test_the_page_is_as_tall_as_what_stands_on_it(count):
    long = CardText("T", "L", TIMES, [(f"Check {i}", f"{i}") for i in range(count)], ["Word " * 60] * 2)
    data = card_pdf(long)
    height = float(re.search(rb"/MediaBox \[0 0 [\d.]+ ([\d.]+)\]", data).group(1))
    assert texts(data).count("Check 0") == 1 and f"Check {count - 1}" in texts(data)
    lowest = min(float(y) for y in re.findall(r"BT [\d.]+ (-?[\d.]+) Td", streams(data)))
    assert 0 < lowest < height


def test_signs_that_no_reader_has_are_spelt():
    data = card_pdf(CardText("−3 × 5", "“so”", TIMES, [("≈ 4", "→ 5′")], ["北"]))
    said = texts(data)
    assert "-3 x 5" in said and '"so"' in said and "about  4" in said and "to 5'" in said and "?" in said
