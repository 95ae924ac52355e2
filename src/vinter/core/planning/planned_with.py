"""What a plan was made with, kept beside it, and what of that has changed since."""

from vinter.core.camera.phones import Lens
from vinter.core.sky.glow import site_zenith
from vinter.core.sky.site import Site
from vinter.core.sky.thresholds import MOVABLE, Thresholds
from vinter.core.versions import Data, Schema

LENS_WORDS = {
    "focal": "the lens's focal length, mm",
    "f35": "its 35 mm equivalent, mm",
    "aperture": "its f-number",
    "pitch": "its pixel pitch, µm",
    "width": "its pixels across",
    "height": "its pixels down",
    "iso_min": "its lowest ISO",
    "iso_max": "its highest ISO",
    "iso_manual": "the highest ISO by hand",
    "iso_digital": "the ISO from which it only multiplies",
    "shutter_max": "its longest shutter, s",
    "read_noise": "its read noise",
    "well": "its full well",
    "dark_current": "its dark current",
    "infinity_ticks": "its infinity, ticks",
    "infinity_known": "whether its infinity is known",
    "distortion": "its distortion",
}
PLANNED_WITH = Schema("what a plan was made with")
SKY_STEP = 0.05  # mag/arcsec^2 that a zenith must move by to be worth saying


def zenith_of(site: Site) -> float:
    """The zenith brightness a site is planned with, V mag/arcsec^2: as it was given, else of the towns."""
    return round(site_zenith(site).value, 2)


def snapshot(site: Site, lens: Lens, limits: Thresholds) -> Data:
    """Site, lens and thresholds as plain data, to store with a plan."""
    return {
        "zenith": zenith_of(site),
        "extinction": site.extinction,
        "place": [site.lat, site.lon, site.elevation],
        "horizon": [list(p) for p in site.horizon.points] if site.horizon else [],
        "lens": {name: _plain(getattr(lens, name)) for name in LENS_WORDS},
        "limits": {f.name: getattr(limits, f.name) for f in MOVABLE},
    }


def _plain(value: object) -> object:
    return [[*map(float, pair)] for pair in value] if isinstance(value, tuple) else value


def _shown(value: object) -> str:
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, list):
        return ", ".join(f"{noise:g} e at ISO {iso:.0f}" for iso, noise in value)
    return f"{value:g}" if isinstance(value, int | float) else str(value)


def changes(before: Data, now: Data) -> list[str]:
    """What of two snapshots differs, each as a sentence; empty when the first was never taken."""
    if not before:
        return []
    out = []
    if abs(before["zenith"] - now["zenith"]) >= SKY_STEP:
        out.append(f"Planned with a zenith of {before['zenith']:.2f} mag/arcsec², now {now['zenith']:.2f}.")
    if before["extinction"] != now["extinction"]:
        out.append(
            f"Planned with an extinction of {before['extinction']:g} mag an airmass, now "
            f"{now['extinction']:g}."
        )
    if before["place"] != now["place"]:
        out.append("The site has been moved.")
    if before["horizon"] != now["horizon"]:
        out.append("The site's horizon has been drawn anew.")
    for name, words in LENS_WORDS.items():
        was, is_now = before["lens"].get(name), now["lens"][name]
        if name in before["lens"] and was != is_now:
            out.append(f"Planned with {words} {_shown(was)}, now {_shown(is_now)}.")
    for f in MOVABLE:
        was, is_now = before["limits"].get(f.name), now["limits"][f.name]
        if f.name in before["limits"] and was != is_now:
            out.append(f"Your preference “{f.metadata['label']}” was {_shown(was)}, now {_shown(is_now)}.")
    return out
