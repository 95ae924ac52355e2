"""What the README says to type works, and shows something worth showing."""

import csv
import io
import re
import shlex
from pathlib import Path

import pytest

from vinter.cli import main, parser

README = (Path(__file__).parents[2] / "README.md").read_text()
SHELL = README.partition("## From the shell")[2].partition("\n\n    ")[2].partition("\n\n")[0]
COMMANDS = [
    shlex.split(line)[1:]
    for line in re.sub(r"\\\n\s*", "", f"    {SHELL}").splitlines()
    if "bin/vinter" in line
]


@pytest.mark.parametrize("words", COMMANDS, ids=lambda words: words[0])
def test_every_command_of_the_readme_is_understood(words):
    assert parser().parse_args(words).command == words[0]


def test_the_calendar_it_shows_has_good_nights_with_usable_minutes(capsys):
    (words,) = [w for w in COMMANDS if "csv" in w]
    assert main(words) == 0
    rows = list(csv.DictReader(io.StringIO(capsys.readouterr().out)))
    good = [r for r in rows if r["verdict"] == "good"]
    assert len(good) > 5 and all(float(r["usable_minutes"]) >= 1 for r in good)
