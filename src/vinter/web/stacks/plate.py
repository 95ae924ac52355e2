"""Where a finished stack points, when it is known where its take was shot: solved from its stars, written as
FITS and DNG."""

import numpy as np
import tifffile

from vinter.core.camera.illuminant import SRGB_OF_XYZ
from vinter.core.camera.phones import Lens
from vinter.core.camera.projection import RECTILINEAR, view_of
from vinter.core.camera.solved_lens import like
from vinter.core.formats.fits import Taken, taken_cards, wcs_cards, write_fits
from vinter.core.formats.lineardng import write_linear_dng
from vinter.core.formats.whole import write_image
from vinter.core.stack.examination import NOTHING, Circumstances, examine
from vinter.core.stack.file import read_about
from vinter.core.stack.photometry.vignetting import Vignetting, of_gear, vignetting_from
from vinter.core.stack.plate_solve import field_from
from vinter.core.versions import Data
from vinter.web.stacks.models import Stack
from vinter.web.takes.models import Frame

KINDS = {"fits": "stack.fits", "dng": "stack.dng", "png": "stack.png"}


def circumstances(one: Stack) -> Circumstances:
    """What is known of where, when and through what a stack was taken; nothing of trails, whose stars are
    lines."""
    site, report, shot = one.take.site, one.report or {}, one.take.shot
    row = next((r for r in report.get("frames", []) if r["file"] == report.get("reference")), None)
    if shot is not None:
        lens = None if shot.optics else shot.core_lens
        views, f35 = [view_of(shot.core_lens, shot.pose, shot.portrait)], None
    else:
        frames = Frame.everything.filter(pk__in=one.frames)
        fact = next((found for f in frames if (found := one.take.lens_of(f))), None)
        views, f35 = [], fact.f35 if fact else None
        lens = like(one.take.phone.core().lenses.values(), f35) if one.take.phone and f35 else None
    return Circumstances(
        site=site.core() if site else None,
        unix=field_time(one) if row and row.get("time") and _time_known(one) else None,
        views=views,
        f35=f35,
        straightened=bool(report.get("straightened_px")),
        fall_offs=_fall_offs(one, lens),
    )


def _fall_offs(one: Stack, lens: Lens | None) -> list[Vignetting]:
    """What is known of a lens's fall-off without a field: by drifting stars, else by Gear, unless flats have
    taken it out."""
    drift = vignetting_from((one.report or {}).get("corners_by_drift"))
    gear = of_gear(lens) if lens and not one.take.serving_as("flat") else None
    return [fall for fall in (drift, gear) if fall and fall.trusted]


def examined(one: Stack) -> Data:
    """What the stars of a finished stack tell, for its report."""
    if not one.chosen.method.points:
        return dict(NOTHING)
    return examine(one.picture, circumstances(one), one.chosen.corners)


def _reference(one: Stack) -> Frame | None:
    return Frame.everything.filter(pk__in=one.frames, name=(one.report or {}).get("reference", "")).first()


def _time_known(one: Stack) -> bool:
    """Whether the zone of the reference's clock is known; of old measures it is taken to be."""
    frame = _reference(one)
    return bool(one.take.shot or frame is None or (frame.measure or {}).get("time_source", "before"))


def field_time(one: Stack) -> float:
    """Unix time of the midpoint of the exposure that a stack's stars stand as they did in."""
    report, shot = one.report or {}, one.take.shot
    row = next(r for r in report["frames"] if r["file"] == report["reference"])
    frame = _reference(one)
    measure = (frame.measure or {}) if frame else {}
    exposure, time = measure.get("exposure_s"), measure.get("time")
    return float(row["time"] if time is None else time) + (exposure or (shot.shutter if shot else 0.0)) / 2


def _taken(one: Stack) -> Taken:
    """What the header of a stack says of how it was taken, from its reference frame and its shot."""
    report, shot = one.report or {}, one.take.shot
    first = min(
        (r["time"] for r in report.get("frames", []) if r.get("used") and r.get("time")), default=None
    )
    frame = Frame.everything.filter(pk__in=one.frames, name=report.get("reference", "")).first()
    measure = (frame.measure or {}) if frame else {}
    site, phone = one.take.site, one.take.phone
    return Taken(
        unix=first,
        exposure=measure.get("exposure_s"),
        frames=report.get("frames_used"),
        camera=phone.name if phone else "",
        lens=shot.core_lens.name if shot else "",
        iso=measure.get("iso"),
        aperture=shot.core_lens.aperture if shot else None,
        title=one.take.title,
        site=(site.lat, site.lon, site.elevation) if site else None,
    )


def write(one: Stack, kind: str) -> None:
    """Write one of the other forms of a stack beside it, unless it is there."""
    path = one.folder / KINDS[kind]
    if path.exists():
        return
    field, picture = (one.report or {}).get("field"), tifffile.imread(one.picture)
    if kind == "fits":
        flat = field if field and field.get("layout", RECTILINEAR) == RECTILINEAR else None
        cards = wcs_cards(field_from(flat)) if flat else {}
        write_fits(path, picture, taken_cards(_taken(one)) | cards)
    elif kind == "dng":
        colour = read_about(one.picture).colour
        write_linear_dng(path, picture, colour.neutral, np.linalg.inv(np.array(colour.matrix)) @ SRGB_OF_XYZ)
    else:
        write_image(path, np.clip(np.round(picture * 65535), 0, 65535).astype(np.uint16))
