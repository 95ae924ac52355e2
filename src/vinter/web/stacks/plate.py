"""Where a finished stack points, when it is known where its take was shot: solved from its stars, written as
FITS and DNG."""

import json
from dataclasses import asdict, replace
from typing import Any

import numpy as np
import numpy.typing as npt
import tifffile

from vinter.core.camera.illuminant import SRGB_OF_XYZ
from vinter.core.camera.projection import RECTILINEAR, Pose, View, view_of
from vinter.core.constants import FULL_FRAME_DIAGONAL_MM
from vinter.core.formats.fits import Taken, taken_cards, wcs_cards, write_fits
from vinter.core.formats.lineardng import write_linear_dng
from vinter.core.formats.whole import whole, write_image
from vinter.core.frames.mosaic import PEDESTAL, SPAN, picture_half
from vinter.core.frames.stars import Stars, background, find_stars
from vinter.core.stack.file import keep_solved, read_stack
from vinter.core.stack.foreground.stray_lights import stray_lights
from vinter.core.stack.ingest import star_light
from vinter.core.stack.photometry.measured_sky import measure_sky
from vinter.core.stack.photometry.vignetting import measure_vignetting
from vinter.core.stack.plate_solve import Solution, field_from, solve_around
from vinter.web.stacks.models import Stack
from vinter.web.takes.models import Frame

F32 = npt.NDArray[np.float32]
# azimuth and altitude from which a lens of unknown pose is looked for, each to 95 degrees beside
LIKELY = ((180.0, 28.0), (0.0, 28.0), (180.0, 52.0), (0.0, 52.0), (180.0, 8.0), (0.0, 8.0))
LINEAR = 0.45  # of full scale: the peak of a star at half size up to which none of its pixels is cut
KINDS = {"fits": "stack.fits", "dng": "stack.dng", "png": "stack.png"}


def examine(one: Stack) -> dict[str, Any]:
    """What the stars of a stack tell: the field, and how dark the corners are; when its maker wished so they
    are evened out."""
    found = solved(one)
    if found is None:
        return {"field": None, "falloff": None, "sky": None, "lamps": []}
    field, stars, light, unix = found
    site = one.take.site
    assert site is not None  # else nothing is solved
    fall = measure_vignetting(stars.xy, light, field, site.core(), unix)
    taken_out = bool(fall and fall.to_even and one.corners == "stars")
    if fall and taken_out:
        with tifffile.TiffFile(one.picture) as file:
            picture, description = file.asarray(), file.pages[0].description  # type: ignore[union-attr]
        picture = np.asarray(picture * fall.gains(picture.shape[1::-1])[..., None], np.float32)
        with whole(one.picture) as draft:
            tifffile.imwrite(draft, picture, photometric="rgb", description=description, compression=None)
    keep_solved(one.picture, field)
    rgb, mask, _ = read_stack(one.picture)
    share = np.ones(rgb.shape[:2], np.float32) if mask is None else mask.astype(np.float32) / np.float32(255)
    place, share = site.core(), np.asarray(share, np.float32)
    sky = measure_sky(rgb, share, field, place, unix)
    return {
        "lamps": [asdict(lamp) for lamp in stray_lights(rgb, share, field, place, unix)],
        "sky": asdict(sky) if sky else None,
        "field": asdict(field),
        "falloff": {**asdict(fall), "significant": fall.significant, "taken_out": taken_out}
        if fall
        else None,
    }


def solved(one: Stack) -> tuple[Solution, Stars, F32, float] | None:
    """The field of a stack with its stars, their light and the middle of the exposure; None without a place
    and a time, or without a match."""
    site, report = one.take.site, one.report or {}
    row = next((r for r in report.get("frames", []) if r["file"] == report.get("reference")), None)
    if site is None or row is None or not row.get("time") or one.method == "trails":
        return None
    rgb, _, _ = read_stack(one.picture)
    plane = picture_half(np.clip(rgb * SPAN + PEDESTAL, 0, 65535).astype(np.uint16))
    floor = background(plane)
    stars = find_stars(plane, floor).stars
    unix = field_time(one)
    found = None
    for view in _views(one, rgb.shape[1], rgb.shape[0]):
        if report.get("straightened_px"):
            view = replace(view, k1=0.0)
        found = found or solve_around(stars.xy, view, site.core(), unix)
    light = np.where(stars.peak < LINEAR * SPAN, star_light(floor.signal, stars), 0).astype(
        np.float32
    )  # a cut star says nothing
    return (found, stars, light, unix) if found else None


def _views(one: Stack, width: int, height: int) -> list[View]:
    """Where the lens may have looked: as planned, or with the lens the files name all round the horizon; none
    where no lens is known."""
    shot = one.take.shot
    if shot is not None:
        view = view_of(shot.core_lens, shot.pose, shot.portrait)
        return [view] if (view.width, view.height) == (width, height) else []
    frames = Frame.everything.filter(pk__in=one.frames)
    f35 = next((f35 for f in frames if (f35 := (f.measure or {}).get("f35"))), None)
    if not f35:
        return []
    focal = f35 * float(np.hypot(width, height)) / FULL_FRAME_DIAGONAL_MM
    return [View(width, height, focal, 0.0, Pose(*pose)) for pose in LIKELY]


def field_time(one: Stack) -> float:
    """Unix time of the middle of the exposure that a stack's stars stand as they did in."""
    report, shot = one.report or {}, one.take.shot
    row = next(r for r in report["frames"] if r["file"] == report["reference"])
    frame = Frame.everything.filter(pk__in=one.frames, name=report["reference"]).first()
    exposure = (frame.measure or {}).get("exposure_s") if frame else None
    return float(row["time"]) + (exposure or (shot.shutter if shot else 0.0)) / 2


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
        flat = field and field.get("layout", RECTILINEAR) == RECTILINEAR
        cards = wcs_cards(field_from(field)) if flat else {}
        write_fits(path, picture, taken_cards(_taken(one)) | cards)
    elif kind == "dng":
        with tifffile.TiffFile(one.picture) as file:
            colour = json.loads(file.pages[0].description)  # type: ignore[union-attr]
        neutral, matrix = tuple(colour["neutral"]), np.array(colour["matrix"])
        write_linear_dng(path, picture, neutral, np.linalg.inv(matrix) @ SRGB_OF_XYZ)
    else:
        write_image(path, np.clip(np.round(picture * 65535), 0, 65535).astype(np.uint16))
