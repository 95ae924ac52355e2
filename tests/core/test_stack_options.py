"""Options of a stack: one entry each, asked by shell, form, storage and report."""

import json

import pytest

from vinter.cli import parser
from vinter.core.errors import BadInput
from vinter.core.stack.options import OPTIONS, OPTIONS_STORED, Options, Shown, options_from
from vinter.core.stack.report import REPORT
from vinter.core.stack.settings import Settings


def test_the_shell_asks_for_every_option_and_takes_its_usual_value():
    given = vars(parser().parse_args(["stack", "frames", "-o", "out.tif"]))
    for name, option in OPTIONS.items():
        if option.shown != Shown.LUCKY:
            assert given[name] == option.usual
    assert vars(parser().parse_args(["lucky", "frames", "-o", "out.tif"]))["share"] == 0.3


@pytest.mark.parametrize(
    ("wrong", "words"),
    [
        ({"method": "magic"}, "method 'magic' is not one of clip, weighted, mean, median, trails"),
        ({"kappa": 1.0}, "kappa 1 is not within 1.5 to 20"),
        ({"tail": "long"}, "tail 'long' is not a number"),
        ({"share": 0.0}, "share 0 is not within 0.001 to 1"),
        ({"corners": "stars"}, "corners 'stars' is not one of auto, off"),
    ],
)
def test_a_value_that_an_option_does_not_have_is_named(wrong, words):
    for make in (Options, Settings):
        with pytest.raises(BadInput, match=words.replace(".", r"\.")):
            make(**wrong)


def test_options_are_stored_and_come_back_and_what_is_not_there_is_usual():
    chosen = Options(method="trails", gaps="open", tail=0.5)
    stored = json.loads(json.dumps(chosen.stored()))
    assert options_from(OPTIONS_STORED.current(stored)) == chosen
    assert options_from({}) == Options() and Options().unusual() == {}
    assert chosen.unusual() == {"Pauses": "left open", "Tails": "fading by half"}


def test_joined_and_lucky_are_kinds_and_no_methods():
    for kind in ("join", "lucky"):
        now = REPORT.current({"version": 3, "method": kind, "frames": []})
        assert now["kind"] == kind and "method" not in now
    assert REPORT.current({"version": 3, "method": "median"})["kind"] == "stack"
