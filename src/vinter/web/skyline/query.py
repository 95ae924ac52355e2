"""What the address of the skyline asks for: minute, target, lens, pose, view. All of a view's state lives
there."""

from dataclasses import dataclass

from django.http import HttpRequest

from vinter.core.camera.phones import Lens
from vinter.core.camera.projection import Pose
from vinter.core.errors import BadInput
from vinter.core.shot import aim
from vinter.core.sky.nights import Night
from vinter.core.sky.targets import Target
from vinter.core.skyline import target_pose
from vinter.web.gear.models import Phone
from vinter.web.nights.outlook import ahead
from vinter.web.nights.query import asked
from vinter.web.sites.models import Site

NARROWEST, WIDEST = 30.0, 360.0


@dataclass(frozen=True, kw_only=True)
class SkylineAsked:
    """Site, minute, target, lens by its key (phone:name), pose, and the azimuth and span of the view in
    degrees."""

    site: Site
    t: float
    what: Target
    lens_key: str
    lens: Lens
    portrait: bool
    pose: Pose
    centre: float
    span: float


def number(request: HttpRequest, name: str, default: float, low: float, high: float) -> float:
    """A number of the address within bounds; the default when it is not given."""
    text = request.GET.get(name, "")
    if text == "":
        return default
    try:
        value = float(text)
    except ValueError as error:
        raise BadInput(f"{name}: {text!r} is not a number") from error
    if not low <= value <= high:
        raise BadInput(f"{name}: {value:g} is not within {low:g} to {high:g}")
    return value


def phones_of(request: HttpRequest) -> dict[str, tuple[Phone, Lens]]:
    """All lenses of the user's phones by key; BadInput when there is none."""
    own = Phone.objects.filter(owner=request.user).order_by("-key")
    out = {f"{p.pk}:{name}": (p, lens) for p in own for name, lens in p.core().lenses.items()}
    if not out:
        raise BadInput("no phone yet: add one under Gear")
    return out


def lens_of(request: HttpRequest) -> tuple[str, Lens]:
    """The lens asked for, or the first one."""
    known = phones_of(request)
    key = request.GET.get("lens") or next(iter(known))
    if key not in known:
        raise BadInput(f"lens {key!r} is none of yours")
    return key, known[key][1]


def next_good(request: HttpRequest, site: Site) -> Night | None:
    """The next night worth it for what the address asks."""
    return ahead(site, asked(request)).next_night


def skyline_asked(request: HttpRequest, site: Site) -> SkylineAsked:
    """Read the address; what it leaves out follows from the target."""
    what = asked(request).what
    t = number(request, "t", 0.0, -2.2e9, 2.6e9)
    if not request.GET.get("t"):
        found = next_good(request, site)
        t = found.best.best.t if found and found.best else 1812588300.0
    key, lens = lens_of(request)
    portrait = request.GET.get("portrait") == "1"
    azimuth, altitude = target_pose(site.core(), t, what)
    start = aim(lens, portrait, altitude, azimuth)
    pose = Pose(
        number(request, "az", start.azimuth, -360, 720) % 360,
        number(request, "up", start.altitude, -60, 90),
        number(request, "roll", 0.0, -180, 180),
    )
    span = number(request, "span", 150.0, NARROWEST, WIDEST)
    return SkylineAsked(
        site=site,
        t=t,
        what=what,
        lens_key=key,
        lens=lens,
        portrait=portrait,
        pose=pose,
        centre=number(request, "centre", pose.azimuth, -360, 720) % 360,
        span=span,
    )
