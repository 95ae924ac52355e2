"""Where a test shot really pointed, by its stars, against the plan: how to turn the phone."""

from dataclasses import dataclass, replace
from datetime import datetime

from vinter.core.camera.projection import Pose
from vinter.core.errors import BadInput
from vinter.core.field.pointing import Turn, turn_to
from vinter.core.ground.magnetic import declination
from vinter.core.planning.picture import Wish, plan_picture
from vinter.core.versions import Data

ANOTHER_NIGHT = 86400.0  # s from the planned minute beyond which a picture is of another night
THERE = 0.5  # degrees within which a camera points as planned


@dataclass(frozen=True)
class Aimed:
    """Where a picture pointed, where it should have, and the turn between; or ``why`` it is not known.
    ``compass`` is by how many degrees the phone's own compass showed too much, None where the file does not
    say."""

    pose: Pose | None = None
    wanted: Pose | None = None
    turn: Turn | None = None
    why: str = ""
    compass: float | None = None

    @property
    def there(self) -> bool:
        """Whether it points as planned."""
        t = self.turn
        return t is not None and max(abs(t.right), abs(t.up), abs(t.clockwise)) <= THERE

    @property
    def words(self) -> str:
        """What to do, or why nothing can be said."""
        if self.turn is None or self.pose is None:
            return f"Where it points is not known: {self.why}."
        turn = "It points as planned" if self.there else f"Turn {self.turn.words}"
        at = f"azimuth {self.pose.azimuth:.1f}°, {self.pose.altitude:.1f}° up"
        return f"{turn} (it stands at {at}, by its stars)."


def wanted_at(wish: Wish, planned: Pose, own_pose: bool, unix: float) -> Pose:
    """The pose of a plan at another minute of its night: its own stays, else the lens follows the target."""
    if own_pose:
        return planned
    try:
        return plan_picture(replace(wish, unix=unix)).plan.pose
    except BadInput:
        return planned


def aimed(solved: Data, wish: Wish, planned: Pose, own_pose: bool) -> Aimed:
    """What a solved picture (as ``solve_picture`` gives it) says of where a shot's camera points."""
    if not solved["pose"]:
        return Aimed(why=solved["why"] or "the picture was not solved")
    unix = datetime.fromisoformat(solved["time"]).timestamp()
    if abs(unix - wish.unix) > ANOTHER_NIGHT:
        return Aimed(why="the picture is of another night, by its time")
    pose = Pose(**solved["pose"])
    wanted = wanted_at(wish, planned, own_pose, unix)
    shown = solved.get("direction")
    if shown is not None and solved.get("magnetic"):
        site = wish.site
        shown = declination(site.lat, site.lon, site.elevation, unix).true(shown)
    compass = None if shown is None else (shown - pose.azimuth + 180) % 360 - 180
    return Aimed(pose, wanted, turn_to(pose, wanted), compass=compass)
