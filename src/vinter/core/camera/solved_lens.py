"""A lens of Gear, corrected by what the stars of a solved picture show: focal length and dark corners."""

from collections.abc import Iterable
from dataclasses import replace

from vinter.core.camera.phones import Lens

WORTH = 0.003  # relative difference of focal lengths from which a correction is worth making
OTHER_LENS = 0.15  # relative difference from which the picture was taken through another lens
BETTER = 1.2  # times the error that Gear has, up to which another measure of the corners is offered
SURE_SIGMA = 3.0  # standard errors by which the two must differ


def corrected(lens: Lens, focal_px: float, error_px: float, longer_px: int, words: str) -> Lens | None:
    """The lens with the focal length (px, of a picture so many px long, with its error) that stars showed and
    the words of where that is from; None where it agrees, or where this is another lens."""
    share = focal_px * max(lens.width, lens.height) / longer_px / lens.focal_px - 1
    if abs(share) < max(WORTH, SURE_SIGMA * error_px / focal_px) or abs(share) > OTHER_LENS:
        return None
    others = [part for part in lens.measured.split("; ") if part and not part.startswith("focal length")]
    return replace(
        lens,
        focal=round(lens.focal * (1 + share), 4),
        f35=round(lens.f35 * (1 + share), 3),
        measured="; ".join([*others, f"focal length {words}"]),
    )


def with_corners(lens: Lens, fall_off: tuple[float, float, float], words: str) -> Lens | None:
    """The lens with the fall-off that stars showed (mag of r^2 and r^4, error of the corner) and the words of
    where that is from; None where it says nothing new."""
    before = lens.fall_off[2]
    apart = abs(sum(fall_off[:2]) - sum(lens.fall_off[:2]))
    if before and (fall_off[2] > BETTER * before or apart < fall_off[2]):
        return None
    others = [part for part in lens.measured.split("; ") if part and not part.startswith("corners")]
    square, fourth, error = (round(value, 3) for value in fall_off)
    return replace(lens, fall_off=(square, fourth, error), measured="; ".join([*others, f"corners {words}"]))


def like(lenses: Iterable[Lens], f35: float) -> Lens | None:
    """The lens of an equivalent focal length (mm); None where none has about that."""
    near = [lens for lens in lenses if abs(lens.f35 / f35 - 1) < OTHER_LENS / 2]
    return min(near, key=lambda lens: abs(lens.f35 - f35), default=None)


def nearest(lenses: Iterable[Lens], focal_px: float, longer_px: int) -> Lens | None:
    """The lens whose focal length is nearest to one in px of a picture so many px long; None without any."""
    wanted = focal_px / longer_px
    return min(
        lenses,
        key=lambda one: abs(one.focal_px / max(one.width, one.height) / wanted - 1),
        default=None,
    )
