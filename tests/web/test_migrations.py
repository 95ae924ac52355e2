"""What people stored before rooms and names changed is there afterwards."""

from datetime import date

import pytest
from django.db import connection
from django.db.migrations.executor import MigrationExecutor

from vinter.web.stacks.models import Stack

BEFORE = [
    ("gear", "0001_initial"),
    ("nights", "0001_initial"),
    ("forecast", "0001_initial"),
    ("shots", "0003_modes_and_elements"),
    ("sites", "0002_what_is_known"),
    ("takes", "0002_sorts"),
    ("finish", "0001_initial"),
    ("satellites", None),
    ("field", None),
]


@pytest.fixture
def old(transactional_db):
    """The models as they were, on a database of that time; ``forward`` brings it up to date."""
    executor = MigrationExecutor(connection)
    executor.migrate(BEFORE)
    yield executor.loader.project_state([node for node in BEFORE if node[1]]).apps
    executor = MigrationExecutor(connection)
    executor.migrate(executor.loader.graph.leaf_nodes())


def forward():
    executor = MigrationExecutor(connection)
    executor.migrate(executor.loader.graph.leaf_nodes())
    return MigrationExecutor(connection).loader.project_state(executor.loader.graph.leaf_nodes()).apps


def test_everything_stored_comes_along(old):
    user = old.get_model("auth", "User").objects.create(username="old hand")
    old.get_model("nights", "Habits").objects.create(
        owner=user, min_altitude=17, lit_percent=33, drive_limit=45
    )
    site = old.get_model("sites", "Site").objects.create(
        owner=user, name="Cliff", lat=38, lon=-9, cautions="A drop of 40 m; no signal."
    )
    quiet = old.get_model("sites", "Site").objects.create(owner=user, name="Yard", lat=38, lon=-9, tz="UTC")
    old.get_model("forecast", "Reading").objects.create(site=site, issued=1.0, source="file a.csv", hours=[])
    phone = old.get_model("gear", "Phone").objects.create(owner=user, key="p", name="P", lenses={})
    shot = old.get_model("shots", "Shot").objects.create(
        owner=user, site=site, phone=phone, lens="main", title="T", night=date(2027, 6, 9), moment=1.0,
        iso=800, shutter=10, frames=20, plan={"at": {}}, version="0.1",
        mode_plan={"steps": [["Lamp on", "4 s, from the side"], ["Interval", "12 s"]]},
        pack={
            "packed": ["Lens cloth", "My flask"], "own": ["My flask"], "left": ["Red lamp"], "alone": False
        },
    )  # fmt: skip
    old.get_model("shots", "Elements").objects.create(owner=user, name="own.tle", text="1 ...")
    take = old.get_model("takes", "Take").objects.create(owner=user, shot=shot, kind="uploaded", title="T")
    old.get_model("takes", "Frame").objects.create(
        take=take, name="a", digest="a", sort="dark", sorted_by_hand=True
    )

    new = forward()
    preferences = new.get_model("nights", "Preferences").objects.get(owner_id=user.pk)
    assert preferences.thresholds["min_altitude"] == 17 and preferences.thresholds["lit_percent"] == 33
    assert preferences.thresholds["darkest_class"] == 4 and preferences.drive_limit == 45
    sites = new.get_model("sites", "Site").objects
    assert (
        set(sites.get(pk=site.pk).hazards) == {"edge", "no_signal"} and sites.get(pk=quiet.pk).hazards == []
    )
    assert new.get_model("forecast", "CachedForecast").objects.get().source == "file a.csv"
    assert new.get_model("satellites", "Elements").objects.get().name == "own.tle"
    frame = new.get_model("takes", "Frame").objects.get()
    assert (frame.frame_type, frame.type_set_by_hand) == ("dark", True)
    marks = {m.key: m for m in new.get_model("field", "PackMark").objects.all()}
    assert set(marks) == {"cloth", "own-my-flask", "red-lamp"}
    assert marks["cloth"].packed and marks["own-my-flask"].packed and marks["own-my-flask"].text == "My flask"
    assert marks["red-lamp"].left_out and not marks["red-lamp"].packed
    assert new.get_model("shots", "Shot").objects.get().alone is False

    # read through today's models, stored plans of that time are in today's form
    from vinter.core.planning.modes.basis import StepKind
    from vinter.web.shots.models import Shot

    steps = Shot.objects.get().steps
    assert [(s.label, s.kind, s.seconds) for s in steps] == [
        ("Lamp on", StepKind.LAMP, 4.0),
        ("Interval", StepKind.SET, 0.0),
    ]


@pytest.fixture
def old_stacks(transactional_db):
    executor = MigrationExecutor(connection)
    executor.migrate([("stacks", "0010_corners_auto")])
    others = [node for node in executor.loader.graph.leaf_nodes() if node[0] != "stacks"]
    yield executor.loader.project_state([("stacks", "0010_corners_auto"), *others]).apps
    executor = MigrationExecutor(connection)
    executor.migrate(executor.loader.graph.leaf_nodes())


def test_options_of_a_stack_become_one_piece_of_data_and_joined_a_kind(old_stacks):
    user = old_stacks.get_model("auth", "User").objects.create(username="old hand")
    take = old_stacks.get_model("takes", "Take").objects.create(owner=user, kind="uploaded", title="T")
    rows = old_stacks.get_model("stacks", "Stack").objects
    for given in ({"method": "trails", "tail": 0.5}, {"method": "join"}, {"method": "lucky", "share": 0.1}):
        rows.create(owner=user, take=take, frames=[], version="1", **given)
    forward()
    trails, joined, lucky = Stack.objects.order_by("pk")
    assert (trails.kind, trails.chosen.method, trails.chosen.tail) == ("stack", "trails", 0.5)
    assert joined.joined and joined.chosen.method == "clip"
    assert lucky.lucky and lucky.chosen.share == 0.1
