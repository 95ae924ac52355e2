"""A table of real files: what an independent reader finds in each, beside what Vinter says.

usage: .venv/bin/python tools/real.py DIR

For whoever works on Vinter; no test needs the files. The independent reader is Pillow, for times, cameras and
lenses.
"""

import sys
import warnings
from datetime import UTC, datetime
from pathlib import Path

import pillow_heif
from PIL import Image

from vinter.core.errors import BadInput
from vinter.core.frames.measuring import measure
from vinter.core.frames.reading import read_frame
from vinter.core.stack.single import Given, solve_picture

EXIF, GPS = 34665, 34853
WIDTH = 46


def independent(path: Path) -> str:
    """Local time, zone, GPS stamp, camera and equivalent focal length as Pillow reads them."""
    try:
        data = Image.open(path).getexif()
    except (OSError, ValueError, SyntaxError):
        return "not read by Pillow"
    block, gps = data.get_ifd(EXIF), data.get_ifd(GPS)
    stamp = ":".join(f"{int(v):02d}" for v in gps[7]) if 7 in gps else ""
    parts = (
        str(block.get(36867, "")),
        str(block.get(36881, "")),
        f"GPS {stamp}" if stamp else "",
        f"{data.get(271, '')} {data.get(272, '')}".strip(),
        f"{block[41989]} mm" if block.get(41989) else "",
    )
    return ", ".join(p for p in parts if p) or "nothing"


def of_vinter(path: Path) -> str:
    """What Vinter makes of a file: kind, time with its source, camera, lens, stars or why none, field."""
    try:
        m = measure(read_frame(path))
    except BadInput as error:
        return f"refused: {str(error)[:90]}"
    when = "" if m.time is None else datetime.fromtimestamp(m.time, UTC).isoformat(timespec="seconds")
    parts = [
        m.kind,
        f"{when} ({m.time_source or 'local, no zone'})" if when else "no time",
        m.camera,
        f"{m.f35:.0f} mm" if m.f35 else "",
        m.light or f"{m.stars} stars of {m.fwhm_px:.1f} px",
    ]
    if not m.light and m.stars >= 20:
        found = solve_picture(path, Given())
        parts.append(f"solved, {found['f35']:.1f} mm" if found["solved"] else f"not solved: {found['why']}")
    return ", ".join(p for p in parts if p)


def main() -> None:
    pillow_heif.register_heif_opener()
    warnings.simplefilter("ignore")
    for path in sorted(p for p in Path(sys.argv[1]).iterdir() if p.is_file()):
        print(f"{path.name[:WIDTH]:{WIDTH}} {independent(path)}")
        print(f"{'':{WIDTH}} {of_vinter(path)}")


if __name__ == "__main__":
    main()
