"""What the stars of a finished picture tell, of a stack as of a single frame: where it points (field, pose),
how dark its corners are, how bright the sky was, which lamps shone."""

from collections.abc import Sequence
from dataclasses import asdict, dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt

from vinter.core.camera.projection import Pose, View
from vinter.core.constants import FULL_FRAME_DIAGONAL_MM
from vinter.core.frames.mosaic import PEDESTAL, SPAN, picture_half
from vinter.core.frames.stars import Stars, background, find_stars
from vinter.core.sky.catalogue import to_horizon
from vinter.core.sky.site import Site
from vinter.core.stack.blind_solve import solve_blind
from vinter.core.stack.file import keep_solved, read_about, read_stack, replace_picture, share_of_sky
from vinter.core.stack.fish_eye import fills_a_circle, refitted, solve_fish_eye
from vinter.core.stack.foreground.stray_lights import stray_lights
from vinter.core.stack.ingest import star_light
from vinter.core.stack.options import EVEN
from vinter.core.stack.photometry.measured_sky import measure_sky
from vinter.core.stack.photometry.vignetting import Vignetting, measure_vignetting
from vinter.core.stack.plate_solve import Solution, solve_around, solve_turned
from vinter.core.versions import Data

F32 = npt.NDArray[np.float32]
Array = npt.NDArray[np.float64]
# azimuth and altitude from which a lens of unknown pose is looked for, each to 95 degrees beside
LIKELY = ((180.0, 28.0), (0.0, 28.0), (180.0, 52.0), (0.0, 52.0), (180.0, 8.0), (0.0, 8.0))
LINEAR = 0.45  # share of full scale at half size up to which no pixel of a star is clipped
FEWEST_STARS = 12
NOT_LINEAR = (
    "its frames are finished pictures, whose numbers are not proportional to light; only RAW frames tell how "
    "bright the sky was"
)
MIRROR_STARS = 30  # stars from which a picture that is not solved is tried mirrored
MIRRORED = "the picture is mirrored, as front cameras write it; it is turned back here"
CONTRADICTION = "these stars did not stand over that place at that time: place, time or its zone is wrong"


@dataclass(frozen=True, kw_only=True)
class Circumstances:
    """Where and when a picture was taken, as far as it is known: the site, the midpoint of the exposure (Unix
    s), rough views (poses and lens) to begin with, the 35 mm equivalent focal length (mm) where only that is
    known, whether a lens warp was already taken out of it, and the fall-off of its lens as it is known
    otherwise, the surest first."""

    site: Site | None = None
    unix: float | None = None
    views: Sequence[View] = ()
    f35: float | None = None
    straightened: bool = False
    fall_offs: Sequence[Vignetting] = ()

    @property
    def lacking(self) -> list[str]:
        """What is not known of place, time and lens."""
        known = {"place": self.site, "time": self.unix, "lens": self.views or self.f35}
        return [name for name, value in known.items() if not value]


@dataclass(frozen=True, kw_only=True)
class Found:
    """A solved picture: its field, its stars with their light (0 of those that are cut), brightest first."""

    field: Solution
    stars: Stars
    light: F32


def likely_views(width: int, height: int, focal_px: float) -> list[View]:
    """Views from which a lens of unknown pose is looked for."""
    return [View(width, height, focal_px, 0.0, Pose(*pose)) for pose in LIKELY]


def focal_of(f35: float, width: int, height: int) -> float:
    """Focal length in px of a lens by its 35 mm equivalent (mm)."""
    return f35 * float(np.hypot(width, height)) / FULL_FRAME_DIAGONAL_MM


def stars_of(rgb: F32) -> tuple[Stars, F32]:
    """The stars of a full-size linear picture (h, w, 3), brightest first, and their light."""
    plane = picture_half(np.clip(rgb * SPAN + PEDESTAL, 0, 65535).astype(np.uint16))
    floor = background(plane)
    stars = find_stars(plane, floor).stars
    light = np.where(
        stars.peak < LINEAR * SPAN, star_light(floor.signal, stars), 0
    )  # a cut star says nothing
    return stars, np.asarray(light, np.float32)


def solved(rgb: F32, known: Circumstances, least: int = FEWEST_STARS) -> Found | str:
    """The field of a full-size linear picture with ``least`` stars; else why it was not found, in words.

    What is known narrows the search: a view to begin with and a minute at a site, else a focal length, else
    nothing. Where site and time are known, the air's bending is part of the fit.
    """
    stars, light = stars_of(rgb)
    if len(stars) < least:
        return f"only {len(stars)} stars were found; {least} are needed"
    field = field_of(np.asarray(stars.xy, float), (rgb.shape[1], rgb.shape[0]), known)
    return field if isinstance(field, str) else Found(field=field, stars=stars, light=light)


def mirrored_xy(xy: Array, width: int) -> Array:
    """Places (n, 2) of a picture of a width in px, in the picture turned back."""
    return np.asarray(np.c_[width - 1 - xy[:, 0], xy[:, 1]], float)


def field_of(xy: Array, size: tuple[int, int], known: Circumstances) -> Solution | str:
    """As ``solved``, from stars (n, 2; px, brightest first) of a picture of ``size`` (width, height)."""
    if len(xy) < FEWEST_STARS:
        return f"only {len(xy)} stars were found; {FEWEST_STARS} are needed"
    field = None
    focal = focal_of(known.f35, *size) if known.f35 else next((v.focal_px for v in known.views), None)
    views = known.views or (likely_views(*size, focal) if focal else ())
    if known.site is not None and known.unix is not None:
        for view in views:
            if field is None and (view.width, view.height) == size:
                rough = replace(view, k1=0.0) if known.straightened else view
                field = solve_around(xy, rough, known.site, known.unix)
    if field is None:
        field = solve_blind(xy, size, focal)
        if field is not None and known.site is not None and known.unix is not None:
            lens, turn = (field.focal_px, field.k1), np.array(field.rotation)
            zenith = to_horizon(known.site, known.unix)[2]
            field = solve_turned(xy, turn, lens, size, zenith) or field
    if field is None and fills_a_circle(xy, size):
        field = _fish_eye(xy, size, known)
    if field is None:
        return f"{len(xy)} stars were found, but the catalogue has no such pattern for any lens"
    return field


def _fish_eye(xy: Array, size: tuple[int, int], known: Circumstances) -> Solution | None:
    """The field of a fish-eye picture, with the air's bending where place and time are known and agree."""
    field = solve_fish_eye(xy, size)
    if field is not None and known.site is not None and known.unix is not None:
        zenith = to_horizon(known.site, known.unix)[2]
        field = refitted(xy, field, zenith) or field
    return field


def pose_of(field: Solution, site: Site, unix: float) -> Pose:
    """Azimuth, altitude (as the air shows it) and roll of a solved picture's centre, in degrees."""
    to_enu = to_horizon(site, unix)
    right, _, forward = np.array(field.rotation) @ to_enu.T
    altitude = float(np.degrees(np.arcsin(np.clip(forward[2], -1, 1))))
    azimuth = float(np.degrees(np.arctan2(forward[0], forward[1])) % 360)
    level = View(1, 1, 1.0, 0.0, Pose(azimuth, altitude)).axes
    roll = float(np.degrees(np.arctan2(right @ level[1], right @ level[0])))
    return Pose(azimuth, altitude, roll)


def examine(path: Path, known: Circumstances, corners: str = EVEN) -> Data:
    """What the stars of a stack's file tell, as data of its report: ``field``, ``pose``, ``sky``,
    ``corners``, ``lamps`` (None or empty where it is not known), ``unsolved``, why there is no field, and
    ``sky_unmeasured``, why its brightness was not measured though there is one.

    A picture that is mirrored is turned back in its file (``mirrored``). With ``corners`` auto, corners that
    are darker are evened out in the file first: by the stars of its field, else by what else is known of the
    lens. The field is kept in the file.
    """
    rgb, mask, _ = read_stack(path)
    linear = read_about(path).linear
    found = solved(rgb, known)
    mirrored = False
    if isinstance(found, str) and not linear:  # a sensor's data are never mirrored
        back = np.ascontiguousarray(rgb[:, ::-1])
        turned = solved(back, known, MIRROR_STARS)
        if not isinstance(turned, str):
            found, rgb, mirrored = turned, back, True
            mask = None if mask is None else np.ascontiguousarray(mask[:, ::-1])
            replace_picture(path, rgb, mask)
    if isinstance(found, str):
        lacking = f" (not known: {', '.join(known.lacking)})" if known.lacking else ""
        _, fallen = _evened(path, rgb, next(iter(known.fall_offs), None) if linear else None, corners)
        return {**NOTHING, "unsolved": found + lacking, "corners": fallen}
    out: dict[str, Any] = {**NOTHING, "field": asdict(found.field), "mirrored": mirrored}
    site, unix = (known.site, known.unix) if found.field.zenith else (None, None)
    fall = measure_vignetting(found.stars, found.light, found.field, site, unix)
    if fall is None or not fall.trusted:
        fall = next(iter(known.fall_offs), fall) if linear else fall
    rgb, out["corners"] = _evened(path, rgb, fall, corners)
    if known.site is not None and known.unix is not None and not found.field.zenith:
        out["unsolved"] = CONTRADICTION
    elif site is not None and unix is not None:
        out["pose"] = asdict(pose_of(found.field, site, unix))
        share = share_of_sky(rgb, mask)
        if linear:
            sky = measure_sky(rgb, share, found.field, site, unix)
            out["sky"] = asdict(sky) if sky else None
        else:
            out["sky_unmeasured"] = NOT_LINEAR
        out["lamps"] = [asdict(lamp) for lamp in stray_lights(rgb, share, found.field, site, unix)]
    else:
        out["unsolved"] = f"no pose: {' and '.join(n for n in known.lacking if n != 'lens')} not known"
    keep_solved(path, found.field, {name: out[name] for name in ("pose", "sky", "corners")})
    return out


def _evened(path: Path, rgb: F32, fall: Vignetting | None, corners: str) -> tuple[F32, Data | None]:
    """A picture with darker corners evened out, in its file too, where that is wished and the fall-off is
    sure; and what a report says of it."""
    if fall is None:
        return rgb, None
    evened = fall.to_even and corners == EVEN
    if evened:
        rgb = np.asarray(rgb * fall.gains(rgb.shape[1::-1])[..., None], np.float32)
        replace_picture(path, rgb)
    return rgb, {**asdict(fall), "significant": fall.significant, "taken_out": evened}


NOTHING: dict[str, Any] = {
    "field": None, "pose": None, "sky": None, "corners": None, "lamps": [], "unsolved": "",
    "sky_unmeasured": "", "mirrored": False,
}  # fmt: skip
