"""Stacks of takes."""

import shutil
from pathlib import Path
from typing import Any

from django.conf import settings
from django.db import models

from vinter.core.camera.projection import Pose
from vinter.core.field.aimed import Aimed, wanted_at
from vinter.core.field.pointing import turn_to
from vinter.core.stack.options import OPTIONS_STORED, Options, options_from
from vinter.core.stack.report import REPORT
from vinter.web.bin.models import Binnable
from vinter.web.fields import VersionedJSONField
from vinter.web.takes.models import Frame, Take


class Stack(Binnable):
    """A take combined into one linear picture; names its inputs, parameters and code version."""

    LIST = "stacks"
    BURST, JOIN, LUCKY, BRACKET = KINDS = (
        "stack",
        "join",
        "lucky",
        "bracket",
    )  # each the name of the job that makes it
    JOBS = KINDS

    owner = models.ForeignKey(settings.AUTH_USER_MODEL, models.CASCADE)
    take = models.ForeignKey(Take, models.PROTECT)
    kind = models.CharField(max_length=10, default=BURST)
    options = VersionedJSONField(schema=OPTIONS_STORED, default=dict)
    ground = models.CharField(max_length=30, default="auto")
    parts = models.JSONField(default=list)
    layout = models.CharField(max_length=12, default="auto")
    frames = models.JSONField()
    painted = models.BooleanField(default=False)
    report = VersionedJSONField(schema=REPORT, null=True)
    version = models.CharField(max_length=20)
    created = models.DateTimeField(auto_now_add=True)

    class Meta:
        ordering = ["-id"]

    def __str__(self) -> str:
        many = len(self.frames)
        if self.joined:
            return f"{self.take.title}, {self.how}"
        return f"{self.take.title}, {many} frames" if many > 1 else f"{self.take.title}, one frame"

    @property
    def alone(self) -> bool:
        """Whether it is one frame, developed by itself."""
        return self.of_a_burst and len(self.frames) == 1

    @property
    def short_words(self) -> str:
        """What it is, on its picture."""
        many = (self.report or {}).get("frames_used", len(self.frames))
        return (
            "developed" if self.alone else "trails" if not self.chosen.method.points else f"stack of {many}"
        )

    @property
    def chosen(self) -> Options:
        """The options it is made with."""
        return options_from(self.options)

    @property
    def off_plan(self) -> Aimed | None:
        """How its camera would have had to be turned to point as planned; None where it was not planned or
        its stars do not say where it pointed."""
        pose, shot = (self.report or {}).get("pose"), self.take.shot
        if not pose or shot is None:
            return None
        now = Pose(**pose)
        wanted = (
            shot.pose
            if "pose" in shot.manual_settings
            else wanted_at(shot.wish, shot.pose, False, self.taken_at)
        )
        return Aimed(now, wanted, turn_to(now, wanted))

    @property
    def taken_at(self) -> float:
        """Unix time of its reference, else the planned minute."""
        report = self.report or {}
        rows: list[dict[str, Any]] = report.get("frames", [])
        row = next((r for r in rows if r["file"] == report.get("reference")), {})
        shot = self.take.shot
        return float(row.get("time") or (shot.moment if shot else 0.0))

    @property
    def how(self) -> str:
        """How it is made, in two or three words for lists."""
        if self.joined:
            panels = ((self.report or {}).get("joined") or {}).get("panels") or self.parts
            return f"{len(panels)} stacks joined"
        if self.of_a_bracket:
            return f"{len(self.frames)} exposures merged"
        return "the sharpest" if self.lucky else self.chosen.method.label

    def came_of_it(self) -> list[Binnable]:
        """Its finishes."""
        return list(self.finish_set.all())

    def came_from(self) -> Binnable:
        """Its take."""
        return self.take

    def files(self) -> list[Path]:
        """Its results, and the mask painted by hand."""
        return [self.folder, self.own_mask, self.own_join]

    @property
    def joined(self) -> bool:
        """Whether it was joined of other stacks."""
        return self.kind == self.JOIN

    @property
    def lucky(self) -> bool:
        """Whether it is the sharpest share of its frames."""
        return self.kind == self.LUCKY

    @property
    def of_a_bracket(self) -> bool:
        """Whether it is an exposure bracket merged into one picture."""
        return self.kind == self.BRACKET

    @property
    def page_template(self) -> str:
        """What shows it when it is done."""
        return (
            "stacks/joined.html"
            if self.joined
            else "stacks/lucky.html"
            if self.lucky
            else "stacks/bracket.html"
            if self.of_a_bracket
            else "stacks/stack.html"
        )

    @property
    def of_a_burst(self) -> bool:
        """Whether its frames were aligned by their stars, and so can be stacked otherwise, or painted."""
        return self.kind == self.BURST

    @property
    def folder(self) -> Path:
        """Where its results lie."""
        return Path(settings.MEDIA_ROOT) / str(self.owner_id) / "stacks" / str(self.pk)

    @property
    def own_mask(self) -> Path:
        """The mask painted by hand, kept beside the results it outlives."""
        return self.folder.parent / f"{self.pk}.own-mask.png"

    @property
    def own_join(self) -> Path:
        """Which ground frame of a focus pair was painted where, kept beside the results it outlives."""
        return self.folder.parent / f"{self.pk}.own-join.png"

    @property
    def ground_frames(self) -> list[Frame]:
        """The ground frames its ground is made of, in the order in which they are numbered from 1."""
        return self.take.serving_as("ground") if self.ground in ("own", "focus") else []

    def keep_painted(self, other: "Stack") -> None:
        """Take over what was painted over another stack of the same frames."""
        self.own_mask.parent.mkdir(parents=True, exist_ok=True)
        for theirs, ours in ((other.own_mask, self.own_mask), (other.own_join, self.own_join)):
            if theirs.is_file():
                shutil.copyfile(theirs, ours)

    @property
    def picture(self) -> Path:
        """The float32 linear TIFF."""
        return self.folder / "stack.tif"
