"""The field card as PDF: red on black for the phone, one page, no font to load."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from fpdf import FPDF

RED, DIM, RULE = (208, 0, 0), (176, 0, 0), (76, 0, 0)
TIME_MM = 13.0  # mm, of a row of times
WIDTH, MARGIN = 100.0, 6.0  # mm: as wide as a hand-held screen
REPLACED = {
    "−": "-",
    "–": "-",
    "′": "'",
    "″": '"',
    "’": "'",
    "“": '"',
    "”": '"',
    "…": "...",
    "→": "to",
    "×": "x",
    "≈": "about ",
}


@dataclass(frozen=True)
class CardText:
    """What the card says: title, line under it, times (label, value), checks (label, value), paragraphs of
    caution."""

    title: str
    line: str
    times: Sequence[tuple[str, str]]
    checks: Sequence[tuple[str, str]]
    cautions: Sequence[str]


def _plain(text: str) -> str:
    """Text in the letters that every PDF reader has."""
    for old, new in REPLACED.items():
        text = text.replace(old, new)
    return text.encode("latin-1", "replace").decode("latin-1")


def _rows(pdf: "FPDF", checks: Sequence[tuple[str, str]]) -> None:
    inner = WIDTH - 2 * MARGIN
    for label, value in checks:
        y = pdf.get_y()
        pdf.set_draw_color(*DIM)
        pdf.ellipse(MARGIN, y + 2.2, 4.6, 4.6)
        pdf.set_xy(MARGIN + 7, y)
        pdf.set_font("Helvetica", "", 12)
        pdf.cell(inner * 0.62 - 7, 9, _plain(label))
        pdf.set_font("Courier", "B", 14)
        pdf.cell(inner * 0.38, 9, _plain(value), align="R")
        pdf.set_draw_color(*RULE)
        pdf.line(MARGIN, y + 9, WIDTH - MARGIN, y + 9)
        pdf.set_y(y + 9)


def card_pdf(card: CardText) -> bytes:
    """One page, tall enough for all of it."""
    from fpdf import FPDF  # a third of a second, for few processes

    height = 74.0 + TIME_MM + 9 * len(card.checks) + 5.2 * sum(1 + len(c) // 44 for c in card.cautions)
    pdf = FPDF(unit="mm", format=(WIDTH, height))
    pdf.set_auto_page_break(False)
    pdf.set_margins(MARGIN, MARGIN, MARGIN)
    pdf.set_title(_plain(card.title))
    pdf.add_page()
    pdf.set_fill_color(0, 0, 0)
    pdf.rect(0, 0, WIDTH, height, style="F")
    pdf.set_text_color(*RED)
    pdf.set_xy(MARGIN, MARGIN)
    pdf.set_font("Helvetica", "B", 15)
    pdf.multi_cell(0, 7, _plain(card.title), new_x="LMARGIN", new_y="NEXT")
    pdf.set_text_color(*DIM)
    pdf.set_font("Helvetica", "", 10)
    pdf.multi_cell(0, 5, _plain(card.line), new_x="LMARGIN", new_y="NEXT")
    pdf.ln(2)
    pdf.set_text_color(*RED)
    half, top = (WIDTH - 2 * MARGIN) / 2, pdf.get_y()
    for i, (label, value) in enumerate(card.times):
        x, y = MARGIN + i % 2 * half, top + i // 2 * TIME_MM
        pdf.set_xy(x, y)
        pdf.set_font("Helvetica", "", 9)
        pdf.cell(half, 5, _plain(label))
        pdf.set_xy(x, y + 5)
        pdf.set_font("Courier", "B", 12)
        pdf.cell(half, 6, _plain(value))
    pdf.set_y(top + (len(card.times) + 1) // 2 * TIME_MM + 1)
    _rows(pdf, card.checks)
    pdf.ln(3)
    pdf.set_font("Helvetica", "", 10)
    for text in card.cautions:
        pdf.set_x(MARGIN)
        pdf.multi_cell(WIDTH - 2 * MARGIN, 5, _plain(text), new_x="LMARGIN", new_y="NEXT")
        pdf.ln(1)
    return bytes(pdf.output())
