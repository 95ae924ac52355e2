"""One night as a page that needs nothing else: its pictures inside."""

import base64

from vinter.web.field.standalone import paper_style
from vinter.web.finish import edit_session
from vinter.web.finish.models import Finish
from vinter.web.ledger.records import Night
from vinter.web.stacks.working import working_copy

STYLE = """
body { margin: 0 auto; max-width: 900px; padding: 28px; background: #f1f3f2; color: #10213f;
font: 15px/1.5 "Atkinson Next", sans-serif; }
h1 { font-size: 30px; margin: 0; } h2 { font-size: 18px; margin: 26px 0 6px; }
img { width: 100%; display: block; margin: 14px 0 4px; } .soft { color: #3c4a63; } .small { font-size: 13px; }
table { border-collapse: collapse; width: 100%; } th { text-align: left; font-weight: 400; color: #3c4a63;
width: 26%; } td, th { border-bottom: 1px solid #c3cbd3; padding: 5px 0; vertical-align: top; }
td { font-family: "Atkinson Mono", monospace; font-variant-numeric: tabular-nums; }
blockquote { border-left: 3px solid #b4232c; margin: 14px 0; padding: 4px 14px; }
@media print { body { background: #fff; padding: 0; } }
"""


def night_page(night: Night) -> dict[str, object]:
    """What the page of a night shows."""
    pictures = [
        {"finish": finish, "data": base64.b64encode(_picture(finish)).decode()} for finish in night.finishes
    ]
    return {
        "n": night,
        "tz": night.site.tz if night.site else "UTC",
        "pictures": [p for p in pictures if p["data"]],
        "style": paper_style(STYLE),
    }


def _picture(finish: Finish) -> bytes:
    """A finish as a JPEG at draft size; nothing where its stack's files are gone."""
    try:
        view = edit_session.View(draft=True)
        return edit_session.render(working_copy(finish.stack), finish.core(), view).jpeg
    except (OSError, ValueError):
        return b""
