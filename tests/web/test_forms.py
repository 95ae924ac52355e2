"""Numbers, days and times of addresses and posts: what is read, and what is refused with its name and
words."""

from datetime import date

import pytest
from django.http import QueryDict
from django.urls import reverse

from vinter.core.errors import BadInput
from vinter.core.finish.export import EXPORT_KINDS
from vinter.core.frames.frame_type import FRAME_TYPES
from vinter.core.sky.thresholds import MOON_SCHOOLS, MOVABLE, Thresholds
from vinter.web.field.forms import PackForm
from vinter.web.finish.forms import ExportForm
from vinter.web.forecast.forms import SpanForm
from vinter.web.forms import checked, read_day
from vinter.web.nights.forms import CursorForm, DriveForm, FilterForm, MinuteForm, PreferencesForm
from vinter.web.nights.models import Preferences
from vinter.web.parts import PartForm
from vinter.web.rehearse.forms import PlaceForm, SettingsForm
from vinter.web.shots.forms import MomentForm
from vinter.web.sites.forms import BoxForm, DarkerForm, PointFixForm, PointForm, SunFixForm
from vinter.web.skyline.forms import SkyForm, SkylineForm, StandForm
from vinter.web.takes.forms import DecisionForm, FrameTypeForm

DIALS = {"iso": 800, "shutter": 10, "ticks": 3, "kelvin": 4200, "mode": "raw", "delay": 2, "lamp": 0}
POINTS = {"x1": 100, "azimuth1": 90, "x2": 500, "azimuth2": 180, "level": 300}
SUN = {"when": "2027-06-09T19:30", "x1": 700, "y1": 200, "across": 180, "width": 1400}


def query(text):
    return QueryDict(text)


@pytest.mark.parametrize(
    ("form", "given", "field", "value"),
    [
        (MinuteForm, "t=1812588300", "t", 1812588300.0),
        (MinuteForm, "t=-86400.5", "t", -86400.5),
        (CursorForm, "", "t", None),
        (CursorForm, "day=2028-02-29", "day", date(2028, 2, 29)),
        (DriveForm, "drive=0", "drive", 0.0),
        (DriveForm, "", "drive", None),
        (SpanForm, "start=0&end=3600", "end", 3600.0),
        (DarkerForm, "minutes=45", "minutes", 45),
        (PointForm, "lat=-33.4&lon=190", "lon", 190.0),
        (SkylineForm, "az=-10&span=30", "az", -10.0),
        (SkylineForm, "up=90", "up", 90.0),
        (SkyForm, "high=60&width=1200", "width", 1200),
        (PlaceForm, "x=1&y=0", "x", 1.0),
        (PartForm, "size=0&offset=0", "offset", 0),
        (MomentForm, "t=1&target=moon", "t", 1.0),
        (ExportForm, "kind=jpg", "width", None),
        (ExportForm, "kind=tif&width=16", "width", 16),
        (DecisionForm, "", "decision", ""),
        (DecisionForm, "decision=drop", "decision", "drop"),
    ],
)
def test_what_is_good_is_read(form, given, field, value):
    assert checked(form(query(given))).cleaned_data[field] == value


@pytest.mark.parametrize(
    ("form", "given", "words"),
    [
        (MinuteForm, "", "a time in Unix seconds is wanted"),
        (MinuteForm, "t=soon", "t 'soon': a time in Unix seconds is wanted"),
        (MinuteForm, "t=nan", "t 'nan'"),
        (MinuteForm, "t=inf", "t 'inf'"),
        (MinuteForm, "t=1e12", "t '1e12'"),
        (CursorForm, "day=9+June", "day '9 June': not a date like 2027-06-09"),
        (CursorForm, "day=2027-02-29", "2027-02-29"),
        (DriveForm, "drive=far", "driving limit 'far'"),
        (DriveForm, "drive=-1", "driving limit '-1'"),
        (SpanForm, "start=1", "end"),
        (DarkerForm, "minutes=4", "minutes '4'"),
        (DarkerForm, "minutes=1e3", "minutes '1e3'"),
        (PointForm, "lat=86&lon=0", "latitude '86'"),
        (PointForm, "lat=1", "longitude"),
        (SkylineForm, "span=20", "span '20'"),
        (SkylineForm, "up=91", "up '91'"),
        (SkylineForm, "roll=x", "roll 'x'"),
        (SkyForm, "width=99", "width '99'"),
        (SkyForm, "high=-4", "high '-4'"),
        (PlaceForm, "x=1.1", "x '1.1'"),
        (PartForm, "size=-1&offset=0", "'-1'"),
        (MomentForm, "t=1&target=dragon", "target 'dragon'"),
        (ExportForm, "kind=gif", "kind 'gif'"),
        (ExportForm, "kind=jpg&width=15", "Width, px '15'"),
        (ExportForm, "kind=jpg&width=wide", "Width, px 'wide'"),
        (DecisionForm, "decision=maybe", "decision 'maybe'"),
        (FrameTypeForm, "frame_type=poem", "type of frame 'poem'"),
        (FrameTypeForm, "", "type of frame"),
        (PackForm, "do=burn", "what to do 'burn'"),
        (PackForm, "do=pack", "item"),
        (PackForm, "do=add", "words"),
    ],
)
def test_what_is_not_is_named_with_what_was_given(form, given, words):
    with pytest.raises(BadInput) as caught:
        checked(form(query(given)))
    assert words in str(caught.value) and not str(caught.value).endswith(".")


def test_all_wrong_fields_of_a_form_are_named_at_once():
    with pytest.raises(BadInput) as caught:
        checked(SkylineForm(query("az=x&up=y&span=400")))
    assert all(word in str(caught.value) for word in ("az 'x'", "up 'y'", "span '400'"))


def test_a_long_answer_is_cut_in_the_message():
    with pytest.raises(BadInput) as caught:
        read_day("9" * 5000)
    assert len(str(caught.value)) < 120


@pytest.mark.parametrize("text", ["2027-06-09", "1970-01-01", "2051-12-31"])
def test_days_come_back_as_they_were(text):
    assert read_day(text).isoformat() == text


@pytest.mark.parametrize(
    ("box", "edges"),
    [
        ("36,-10,39,-7", (36, -10, 39, -7)),
        ("-95,170,95,190", (-85, 170, 85, 190)),  # cut to the map's own latitudes; over the date line
    ],
)
def test_a_box_of_the_map(box, edges):
    found = checked(BoxForm({"box": box})).cleaned_data["box"]
    assert (found.south, found.west, found.north, found.east) == edges


@pytest.mark.parametrize(
    "box", ["", "1,2,3", "1,2,3,4,5", "a,b,c,d", "39,-10,36,-7", "36,-7,39,-10", "nan,0,1,1"]
)
def test_a_box_that_is_none(box):
    with pytest.raises(BadInput, match="box"):
        checked(BoxForm({"box": box}))


def test_a_pictures_bearing_needs_all_its_figures():
    assert checked(PointFixForm(POINTS)).cleaned_data["azimuth2"] == 180
    assert checked(SunFixForm(SUN)).cleaned_data["when"].hour == 19
    for form, whole in ((PointFixForm, POINTS), (SunFixForm, SUN)):
        for name in whole:
            with pytest.raises(BadInput):
                checked(form({k: v for k, v in whole.items() if k != name}))
    with pytest.raises(BadInput, match="when"):
        checked(SunFixForm({**SUN, "when": "at noon"}))


def test_the_simulated_phone_has_bounds():
    assert checked(SettingsForm(30, DIALS)).cleaned_data["iso"] == 800
    for name, bad in (
        ("iso", 0),
        ("shutter", 31),
        ("shutter", 0),
        ("ticks", 61),
        ("kelvin", 1999),
        ("delay", -1),
        ("lamp", 61),
    ):
        with pytest.raises(BadInput):
            checked(SettingsForm(30, {**DIALS, name: bad}))


def test_a_stand_needs_a_subject_and_a_wish():
    assert not StandForm({"height": 8, "gap": 5}).is_valid()
    assert not StandForm({"height": 8, "bearing": 180, "metres": 60}).is_valid()
    by_bearing = checked(StandForm({"height": 8, "bearing": 0, "metres": 1000, "gap": 5}))
    subject = by_bearing.subject(38.0, -8.0)
    assert (subject.lat, subject.lon) == pytest.approx((38 + 1 / 111.2, -8.0), abs=1e-4)  # a kilometre north
    by_place = checked(StandForm({"height": 8, "lat": 1, "lon": 2, "share": 30}))
    assert (by_place.subject(38.0, -8.0).lat, by_place.wanted().share) == (1, 0.3)


def test_every_choice_of_the_core_can_be_posted():
    assert all(ExportForm({"kind": kind}).is_valid() for kind in EXPORT_KINDS)
    assert all(FrameTypeForm({"frame_type": kind}).is_valid() for kind in FRAME_TYPES)
    assert all(FilterForm(query(f"school={school}")).is_valid() for school in MOON_SCHOOLS)


@pytest.mark.parametrize(
    ("clock", "hours"), [("22:30", 10.5), ("00:00", 12), ("11:59", 23 + 59 / 60), ("12:00", 0)]
)
def test_wall_clock_counts_from_noon(clock, hours):
    assert checked(FilterForm(query(f"earliest={clock}"))).cleaned_data["earliest"] == pytest.approx(hours)


@pytest.mark.parametrize(
    "given",
    ["earliest=25:00", "latest=noon", "weekday=7", "weekday=x", "minutes=-1", "school=sunny", "target=x"],
)
def test_filters_that_make_no_sense_are_refused(given):
    with pytest.raises(BadInput):
        checked(FilterForm(query(given)))


def test_the_users_own_target_wins_over_the_chosen_one():
    data = checked(FilterForm(query("target=moon&own_target=band:70"))).cleaned_data
    assert data["own_target"].key == "band:70" and data["target"].key == "moon"


def test_preferences_show_every_threshold_of_the_core_within_its_bounds():
    form = PreferencesForm(Preferences())
    assert set(form.fields) == {f.name for f in MOVABLE} | {"drive_limit"}
    usual = {name: field.initial for name, field in form.fields.items()}
    assert all(usual[f.name] == getattr(Thresholds(), f.name) for f in MOVABLE)
    for f in MOVABLE:
        beyond = {**usual, f.name: f.metadata["high"] + 1}
        assert f.name in PreferencesForm(Preferences(), beyond).errors
        assert f.name in PreferencesForm(Preferences(), {**usual, f.name: "much"}).errors
    assert PreferencesForm(Preferences(), usual).is_valid()


@pytest.mark.django_db
@pytest.mark.parametrize(
    ("name", "given", "word"),
    [
        ("night", {"t": "now"}, "now"),
        ("night", {"minutes": "many"}, "many"),
        ("season", {"weekday": "9"}, "9"),
        ("skyline", {"az": "north"}, "north"),
        ("skyline", {"lens": "1:periscope"}, "periscope"),
        ("skyline-sky", {"width": "1"}, "1"),
        ("stand", {"day": "yesterday"}, "yesterday"),
        ("station", {"day": "x"}, "date"),
        ("darker", {"minutes": "x"}, "x"),
        ("forecast-panel", {"start": "x", "end": "1"}, "start"),
        ("map-point", {"lat": "x"}, "latitude"),
        ("map-glow", {"box": "1"}, "box"),
        ("shot-new", {"t": "x"}, "minute"),
        ("shot-new", {}, "minute"),
        ("best", {"drive": "x"}, "driving limit"),
    ],
)
def test_pages_answer_400_and_say_what_was_wrong(desk, mill, name, given, word):
    arguments = {"night": [mill.pk, "2027-06-09"], "season": [mill.pk, 2027], "best": []}
    without = name.startswith("map") or name == "best"
    answer = desk.get(reverse(name, args=arguments.get(name, [] if without else [mill.pk])), given)
    assert answer.status_code == 400 and word in answer.content.decode()
