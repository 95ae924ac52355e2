"""A field page as one HTML text that needs no network: styles, fonts and scripts inside."""

import base64
import re

from django.conf import settings
from django.template.loader import render_to_string

ASSETS = settings.BASE / "static"
SCRIPTS = (
    "waiting.js",
    "timer-moments.js",
    "timer.js",
    "point-geometry.js",
    "card-minute.js",
    "card.js",
)  # each after those it imports
FONTS = ("next", "mono")
FACES = "".join(
    f'@font-face {{ font-family: "Atkinson {name.title()}"; font-weight: 200 800; '
    f'src: url(../fonts/atkinson-{name}.woff2) format("woff2"); }}\n'
    for name in FONTS
)


def inlined(scripts: tuple[str, ...]) -> str:
    """Modules as one script: their imports are there already, so import lines and the word export go."""
    texts = [(ASSETS / "js/field" / name).read_text() for name in scripts]
    text = "\n".join(re.sub(r"^import\b[^;]*;\n", "", t, flags=re.MULTILINE) for t in texts)
    return re.sub(r"^export (?=(async )?function|const|class)", "", text, flags=re.MULTILINE)


def fonts_inside(style: str) -> str:
    """Styles with the fonts they name inside."""
    for name in FONTS:
        data = base64.b64encode((ASSETS / "fonts" / f"atkinson-{name}.woff2").read_bytes()).decode()
        style = style.replace(f"url(../fonts/atkinson-{name}.woff2)", f"url(data:font/woff2;base64,{data})")
    return style


def paper_style(rules: str) -> str:
    """Styles of a page to print or keep, in the product's own type."""
    return fonts_inside(FACES + rules)


def standalone(context: dict[str, object]) -> str:
    """The card and its timer."""
    style = fonts_inside((ASSETS / "css" / "field.css").read_text())
    return render_to_string("field/card.html", {**context, "style": style, "script": inlined(SCRIPTS)})
