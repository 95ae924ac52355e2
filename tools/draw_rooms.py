"""Draw the rooms of the code and who imports whom: docs/rooms-core.svg and docs/rooms-web.svg.

    python tools/draw_rooms.py

Every arrow is an import found in the code; a room stands above all rooms it imports. A circle is an error.
"""

import sys
from pathlib import Path
from xml.sax.saxutils import escape

import grimp

ROOT = Path(__file__).resolve().parents[1]
BOX_WIDTH, BOX_HEIGHT, ACROSS, DOWN, MARGIN = 132, 34, 158, 92, 20
SMALL = (
    "errors",
    "json_input",
    "finite",
    "versions",
    "constants",
    "discovery",
    "parallel",
)  # known to every room
SHARED = ("forms", "fields", "uploads", "owned", "workflow", "templatetags", "settings", "urls", "security")
SHARED += ("serve", "wsgi", "assets", "keeping", "home_network", "byte_cache", "logs", "management")


def imports_of(parent: str, left_out: tuple[str, ...]) -> dict[str, set[str]]:
    """Which rooms of a parent each room imports."""
    graph = grimp.build_graph("vinter")
    rooms = sorted(child for child in graph.find_children(parent) if child.split(".")[-1] not in left_out)
    return {
        room: {
            other
            for other in rooms
            if other != room and graph.direct_import_exists(importer=room, imported=other, as_packages=True)
        }
        for room in rooms
    }


def levels(imports: dict[str, set[str]]) -> dict[str, int]:
    """Height of each room: one above the highest of those it imports. ValueError names a circle."""
    found: dict[str, int] = {}

    def level(room: str, above: tuple[str, ...]) -> int:
        if room in above:
            raise ValueError(" imports ".join([*above[above.index(room) :], room]))
        if room not in found:
            found[room] = 1 + max((level(other, (*above, room)) for other in imports[room]), default=-1)
        return found[room]

    for room in imports:
        level(room, ())
    return found


def needed(imports: dict[str, set[str]]) -> dict[str, set[str]]:
    """The imports without those that follow from others: what a room reaches through another is left out."""

    def reached(room: str) -> set[str]:
        return {far for other in imports[room] for far in {other, *reached(other)}}

    return {
        room: {o for o in others if not any(o in reached(between) for between in others - {o})}
        for room, others in imports.items()
    }


def drawing(imports: dict[str, set[str]], title: str) -> str:
    """The rooms as an SVG, users above what they use."""
    height = levels(imports)
    top = max(height.values())
    rows: dict[int, list[str]] = {}
    for room, at in sorted(height.items()):
        rows.setdefault(at, []).append(room)
    widest = max(len(r) for r in rows.values())
    place = {
        room: (
            MARGIN + (widest - len(row)) * ACROSS / 2 + i * ACROSS,
            MARGIN + (top - at) * DOWN,
        )
        for at, row in rows.items()
        for i, room in enumerate(row)
    }
    out = []
    for room, others in needed(imports).items():
        for other in sorted(others):
            (x0, y0), (x1, y1) = place[room], place[other]
            x0, x1, y0 = x0 + BOX_WIDTH / 2, x1 + BOX_WIDTH / 2, y0 + BOX_HEIGHT
            out.append(
                f'<path d="M{x0:.0f} {y0:.0f}C{x0:.0f} {y0 + 34:.0f} {x1:.0f} {y1 - 34:.0f} '
                f'{x1:.0f} {y1 - 3:.0f}" fill="none" stroke="#5f86b3" stroke-width="1.3" '
                'marker-end="url(#tip)"/>'
            )
    for room, (x, y) in place.items():
        out.append(
            f'<rect x="{x:.0f}" y="{y:.0f}" width="{BOX_WIDTH}" height="{BOX_HEIGHT}" fill="#f1f3f2" '
            f'stroke="#10213f"/><text x="{x + BOX_WIDTH / 2:.0f}" y="{y + 22:.0f}" text-anchor="middle">'
            f"{escape(room.split('.')[-1])}</text>"
        )
    width, tall = 2 * MARGIN + widest * ACROSS, 2 * MARGIN + top * DOWN + BOX_HEIGHT
    head = (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {width:.0f} {tall:.0f}" '
        f'font-family="sans-serif" font-size="14" fill="#10213f"><title>{escape(title)}</title>'
        '<defs><marker id="tip" markerWidth="8" markerHeight="8" refX="7" refY="4" orient="auto">'
        '<path d="M0 0L8 4L0 8Z" fill="#5f86b3"/></marker></defs>'
        '<rect width="100%" height="100%" fill="#fff"/>'
    )
    return "\n".join([head, *out, "</svg>\n"])


def main() -> int:
    """Write both drawings; 1 when there is a circle."""
    for parent, left_out in (("vinter.core", SMALL), ("vinter.web", SHARED)):
        name = parent.split(".")[-1]
        try:
            text = drawing(imports_of(parent, left_out), f"Rooms of {parent}, users above what they use")
        except ValueError as error:
            print(f"a circle: {error}", file=sys.stderr)
            return 1
        (ROOT / "docs" / f"rooms-{name}.svg").write_text(text)
    return 0


if __name__ == "__main__":
    sys.exit(main())
