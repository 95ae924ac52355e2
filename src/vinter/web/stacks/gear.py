"""A lens of Gear, corrected by what the stars of a stack showed."""

from dataclasses import dataclass

from vinter.core.camera.phones import Lens
from vinter.core.camera.projection import RECTILINEAR
from vinter.core.camera.solved_lens import corrected, nearest, with_corners
from vinter.core.errors import BadInput
from vinter.core.stack.file import read_about
from vinter.core.stack.photometry.vignetting import Source, vignetting_from
from vinter.core.stack.plate_solve import LENS_STARS, field_from
from vinter.web.stacks.models import Stack

CORNERS_KNOWN = 0.12  # mag of error, from which a fall-off is worth keeping


@dataclass(frozen=True)
class LensOffer:
    """A lens as Gear has it, and as a stack's stars show it."""

    before: Lens
    after: Lens

    @property
    def focal(self) -> bool:
        """Whether its focal length is another."""
        return self.before.f35 != self.after.f35

    @property
    def corners(self) -> float | None:
        """By how many mag its corners are darker, where that is new."""
        return None if self.before.fall_off == self.after.fall_off else self.after.corner_mag


def lens_offer(one: Stack) -> LensOffer | None:
    """What Gear could learn of the lens of a stack; None where it agrees or is not known."""
    phone, report = one.take.phone, one.report or {}
    if phone is None or not report.get("field") or report.get("straightened_px"):
        return None
    field = field_from(report["field"])
    longer = max(field.width, field.height)
    if field.layout != RECTILINEAR or (one.take.shot and one.take.shot.optics):
        return None
    if field.matched < LENS_STARS:
        return None  # too few to tell how the lens bends, which its length then takes in
    lenses, shot = phone.core().lenses, one.take.shot
    lens = lenses.get(shot.lens) if shot else nearest(lenses.values(), field.focal_px, longer)
    if lens is None:
        return None
    words = f"by {field.matched} stars of {one.take.title}"
    after = corrected(lens, field.focal_px, field.focal_error, longer, words) or lens
    fall = vignetting_from(report.get("corners"))
    if (
        fall
        and fall.source == Source.FIELD
        and fall.corner_error <= CORNERS_KNOWN
        and _as_the_sensor_saw(one)
    ):
        after = with_corners(after, (*fall.two_terms, fall.corner_error), words) or after
    return LensOffer(lens, after) if after != lens else None


def _as_the_sensor_saw(one: Stack) -> bool:
    """Whether a stack's light is its sensor's, no flats taken out."""
    there = one.picture.is_file() and not one.take.serving_as("flat")
    return there and read_about(one.picture).linear


def take_lens(one: Stack) -> None:
    """Store the lens as the stars of a stack show it."""
    offer = lens_offer(one)
    if offer is None or one.take.phone is None:
        raise BadInput(f"{one}: its stars do not tell Gear anything new of a lens")
    one.take.phone.store_lens(offer.after)
