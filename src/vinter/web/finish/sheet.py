"""A finished picture on a sheet of paper, with its night: what it shows, where and when, through what."""

import base64
from datetime import datetime
from zoneinfo import ZoneInfo

from vinter.core.versions import Data
from vinter.web.conventions import as_wished, dated
from vinter.web.field.standalone import paper_style
from vinter.web.finish import edit_session
from vinter.web.finish.caption import first_measure, frames_by_shutter, frames_in
from vinter.web.finish.models import Finish
from vinter.web.stacks.working import working_copy
from vinter.web.takes.models import Frame

PLACES = {
    "none": "no place",
    "name": "the site's name",
    "region": "to about 50 km",
    "exact": "exactly",
}
STYLE = """
body { margin: 0; background: #dfe4e6; color: #10213f; font: 13px/1.45 "Atkinson Next", sans-serif; }
main { background: #fff; margin: 22px auto; padding: 14mm; box-sizing: border-box; width: 297mm; }
main.upright { width: 210mm; }
img { display: block; width: 100%; } main.upright img { max-height: 205mm; width: auto; max-width: 100%; }
h1 { font-size: 25px; font-weight: 620; margin: 7mm 0 0; letter-spacing: -0.01em; }
h1 + p { margin: 1mm 0 5mm; color: #3c4a63; font-size: 15px; }
dl { display: grid; grid-template-columns: repeat(3, 1fr); gap: 3mm 8mm; margin: 0; }
main.upright dl { grid-template-columns: repeat(2, 1fr); }
dt { color: #3c4a63; font-size: 11px; border-top: 1px solid #10213f; padding-top: 1mm; }
dd { margin: 0; font-family: "Atkinson Mono", monospace; font-variant-numeric: tabular-nums; }
nav { max-width: 297mm; margin: 16px auto 0; padding: 0 14mm; box-sizing: border-box; }
nav a { color: #10213f; margin-right: 1em; } nav a[aria-current] { font-weight: 700; text-decoration: none; }
@page { margin: 0; size: A4 landscape; } @page upright { size: A4 portrait; }
main.upright { page: upright; }
@media print { body { background: #fff; } nav { display: none; } main { margin: 0; break-inside: avoid; } }
@media screen and (max-width: 700px) { main, main.upright { width: auto; margin: 0; padding: 16px; }
dl, main.upright dl { grid-template-columns: 1fr; } }
"""


def _where(one: Finish, place: str, report: Data) -> str:
    shot, take = one.stack.take.shot, one.stack.take
    site = shot.site if shot else take.own_site
    if place == "name":
        return site.name if site else ""
    at = (site.lat, site.lon) if site else tuple((report.get("taken") or {}).get("place") or ())
    if place == "none" or len(at) < 2:
        return ""
    digits, step = (3, 0.001) if place == "exact" else (1, 0.5)
    lat, lon = (round(v / step) * step for v in at[:2])
    about = "" if place == "exact" else "about "
    north, east = "N" if lat >= 0 else "S", "E" if lon >= 0 else "W"
    return f"{about}{abs(lat):.{digits}f}° {north}, {abs(lon):.{digits}f}° {east}"


def _when(one: Finish, zone: str) -> str:
    """The evening's date and from when to when the frames were taken; empty where no frame says."""
    times = [
        (float(t), (f.measure or {}).get("exposure_s") or 0.0)
        for f in Frame.everything.filter(pk__in=one.stack.frames)
        if (t := (f.measure or {}).get("time")) is not None
    ]
    if not times:
        return ""
    first, last = min(times)[0], max(t + s for t, s in times)
    begins, ends = (datetime.fromtimestamp(t, ZoneInfo(zone)) for t in (first, last))
    span = f"{begins:%H:%M}" if last - first < 60 else f"{begins:%H:%M}–{ends:%H:%M}"
    return as_wished(f"{dated(begins.date(), 'j F Y')}, {span} ({zone.replace('_', ' ')})")


def _light(many: int, m: Data) -> str:
    """Frames, shutter and ISO, and the light gathered."""
    seconds, iso = m.get("exposure_s"), m.get("iso")
    parts = [frames_by_shutter(many, seconds), f"ISO {iso}" if seconds and iso else ""]
    gathered = many * (seconds or 0.0) / 60
    if many > 1 and gathered >= 1:
        parts.append(f"{gathered:.0f} min of light")
    return ", ".join(filter(None, parts))


def _camera(m: Data) -> str:
    lens = f"{m['f35']:.0f} mm equivalent" if m.get("f35") else ""
    stop = f"f/{m['aperture']:g}" if m.get("aperture") else ""
    return ", ".join(filter(None, (m.get("camera") or m.get("model") or "", lens, stop)))


def _sky(report: Data) -> str:
    sky = report.get("sky")
    return f"{sky['zenith']:.2f} ± {sky['error']:.2f} mag/arcsec² at the zenith, measured" if sky else ""


def _direction(report: Data) -> str:
    pose = report.get("pose")
    return f"azimuth {pose['azimuth']:.0f}°, {pose['altitude']:.0f}° up" if pose else ""


def _in_it(report: Data) -> str:
    """The targets in the frame, else the constellations."""
    field = report.get("field") or {}
    return ", ".join([t[0] for t in field.get("targets", [])] or field.get("constellations", []))


def sheet(one: Finish, place: str) -> dict[str, object]:
    """What the sheet shows: the picture, its title and the facts that are known; ``place`` is one of
    ``PLACES``."""
    report, measure = one.stack.report or {}, first_measure(one.stack)
    take = one.stack.take
    site = take.shot.site if take.shot else take.own_site
    zone = site.tz if site else "UTC"
    shown = edit_session.render(working_copy(one.stack), one.core(), edit_session.View(draft=False))
    facts = (
        ("Night", _when(one, zone)),
        ("Place", _where(one, place, report)),
        ("Camera", _camera(measure)),
        ("Exposure", _light(frames_in(one.stack), measure)),
        ("Direction", _direction(report)),
        ("Sky", _sky(report)),
        ("In the frame", _in_it(report)),
    )
    return {
        "finish": one,
        "title": take.title,
        "line": one.title,
        "data": base64.b64encode(shown.jpeg).decode(),
        "upright": shown.size[1] > shown.size[0],
        "facts": [(label, value) for label, value in facts if value],
        "place": place,
        "places": PLACES,
        "style": paper_style(STYLE),
    }
