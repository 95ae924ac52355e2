"""What the address of the skyline asks for: minute, target, lens, pose, view. All of a view's state lives
there."""

from dataclasses import dataclass

from django.http import HttpRequest

from vinter.core.camera.phones import Lens
from vinter.core.camera.projection import Pose
from vinter.core.errors import BadInput
from vinter.core.planning.shot import aim
from vinter.core.planning.skyline import target_pose
from vinter.core.sky.nights import Night
from vinter.core.sky.targets import Target
from vinter.web.forms import checked
from vinter.web.gear.models import NoPhone, Phone
from vinter.web.nights.outlook import ahead
from vinter.web.nights.query import plan_query
from vinter.web.owned import person
from vinter.web.sites.models import Site
from vinter.web.skyline.forms import SkylineForm

USUAL_SPAN = 150.0  # degrees
EXAMPLE_MINUTE = 1812588300.0  # Unix s, a June night in 2027, shown where no night of the year ahead is good


@dataclass(frozen=True, kw_only=True)
class SkylineQuery:
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


def phones_of(request: HttpRequest) -> dict[str, tuple[Phone, Lens]]:
    """All lenses of the user's phones by key; NoPhone when there is none."""
    own = Phone.objects.filter(owner=person(request)).order_by("-key")
    out = {f"{p.pk}:{name}": (p, lens) for p in own for name, lens in p.core().lenses.items()}
    if not out:
        raise NoPhone("no phone yet: add one under Gear")
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
    return ahead(site, plan_query(request)).next_night


def _best_minute(request: HttpRequest, site: Site) -> float:
    found = next_good(request, site)
    return found.best.best.t if found and found.best else EXAMPLE_MINUTE


def skyline_query(request: HttpRequest, site: Site) -> SkylineQuery:
    """Read the address; what it leaves out follows from the target."""
    given = checked(SkylineForm(request.GET)).cleaned_data
    what = plan_query(request).what
    t = _best_minute(request, site) if given["t"] is None else float(given["t"])
    key, lens = lens_of(request)
    portrait = request.GET.get("portrait") == "1"
    azimuth, altitude = target_pose(site.core(), t, what)
    start = aim(lens, portrait, altitude, azimuth)

    def or_usual(name: str, usual: float) -> float:
        return usual if given[name] is None else float(given[name])

    pose = Pose(or_usual("az", start.azimuth) % 360, or_usual("up", start.altitude), or_usual("roll", 0.0))
    return SkylineQuery(
        site=site,
        t=t,
        what=what,
        lens_key=key,
        lens=lens,
        portrait=portrait,
        pose=pose,
        centre=or_usual("centre", pose.azimuth) % 360,
        span=or_usual("span", USUAL_SPAN),
    )
