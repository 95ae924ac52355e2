"""What a person's files take, by what they are, and what may be added.

Sizes are read from the disk, at most every few seconds.
"""

import shutil
import time
from dataclasses import dataclass
from pathlib import Path

from django.conf import settings
from django.db.models import Prefetch

from vinter.web.bin.models import BinEntry
from vinter.web.file_state import size_of, state_of
from vinter.web.finish.models import Export
from vinter.web.rehearse.models import Rehearsal
from vinter.web.sites.models import Site
from vinter.web.stacks.models import Stack
from vinter.web.stacks.working import WORKING
from vinter.web.takes.models import Frame, Take

# files that are written when they are asked for
DERIVED = ("stack.fits", "stack.dng", "stack.png", "working.npz", WORKING)


@dataclass(frozen=True)
class TakeSpace:
    """Bytes of a take: frames, pictures of them, what its stacks are, and what can be worked out again."""

    take: Take
    frames: int
    looks: int
    stacks: int
    again: int

    @property
    def total(self) -> int:
        """All of it."""
        return self.frames + self.looks + self.stacks + self.again


@dataclass(frozen=True)
class Usage:
    """Bytes of a person: takes one by one, exports, pictures of sites, rehearsals, the bin; and the disk's
    free ones."""

    takes: list[TakeSpace]
    exports: int
    archives: int
    sites: int
    rehearsals: int
    binned: int
    free: int

    @property
    def again(self) -> int:
        """What can be worked out again."""
        return sum(t.again for t in self.takes)

    @property
    def parts(self) -> list[tuple[str, int]]:
        """What there is, largest kinds as they come in the work."""
        return [
            ("Frames", sum(t.frames for t in self.takes)),
            ("Pictures of the frames", sum(t.looks for t in self.takes)),
            ("Stacks", sum(t.stacks for t in self.takes)),
            ("Exports", self.exports),
            ("Archives", self.archives),
            ("Pictures of sites and rehearsals", self.sites + self.rehearsals),
            ("Can be worked out again", self.again),
            ("In the bin", self.binned),
        ]

    @property
    def total(self) -> int:
        """All of it."""
        return sum(size for _, size in self.parts)


def made_again(take: Take) -> list[Path]:
    """Files of a take that come back by themselves when they are asked for."""
    stacks = [stack.folder / name for stack in take.stack_set.all() for name in DERIVED]
    return [take.work, take.film, *stacks]


def _take_space(take: Take) -> TakeSpace:
    """Of a take that came with its frames and stacks."""
    again = sum(size_of(p) for p in made_again(take))
    looks = size_of(take.previews) - size_of(take.film)
    stacks = sum(size_of(p) for s in take.stack_set.all() for p in s.files())
    derived = sum(size_of(s.folder / name) for s in take.stack_set.all() for name in DERIVED)
    frames = sum(size_of(f.path) for f in take.frame_set.all())
    return TakeSpace(take, frames, looks, stacks - derived, again)


def usage(owner: int) -> Usage:
    """What a person's files take now."""
    stored = Prefetch(
        "frame_set", Frame.objects.only("take_id", "stored")
    )  # years of measures stay where they are
    stacks = Prefetch("stack_set", Stack.objects.defer("report"))
    takes = [_take_space(t) for t in Take.objects.filter(owner=owner).prefetch_related(stored, stacks)]
    return Usage(
        takes=sorted(takes, key=lambda t: -t.total),
        exports=sum(size_of(p) for e in Export.objects.filter(owner=owner) for p in e.files()),
        archives=size_of(Path(settings.MEDIA_ROOT) / str(owner) / "archives"),
        sites=sum(size_of(s.folder) for s in Site.objects.filter(owner=owner)),
        rehearsals=sum(size_of(r.folder) for r in Rehearsal.objects.filter(owner=owner)),
        binned=sum(size_of(p) for e in BinEntry.objects.filter(owner=owner) for p in e.files()),
        free=shutil.disk_usage(settings.HOME).free,
    )


def give_back(takes: list[Take]) -> int:
    """Delete what can be worked out again of takes; the bytes that came free."""
    freed = 0
    for path in (p for take in takes for p in made_again(take)):
        freed += size_of(path)
        if path.is_dir():
            shutil.rmtree(path, ignore_errors=True)
        else:
            path.unlink(missing_ok=True)
    return freed


def left_behind(now: float | None = None, old: float = 86400.0) -> list[Path]:
    """Files that nothing will ask for any more, a day old or older: parts of uploads, drafts of processes
    that were killed, working folders of stacks, files of rows that are gone."""
    now = time.time() if now is None else now
    media = Path(settings.MEDIA_ROOT)
    torn = [*media.glob("*/takes/*/partial/*"), *media.rglob(".*.part*")]
    torn += [*media.glob("*/stacks/*/vinter-stack-*"), *settings.FILE_UPLOAD_TEMP_DIR.glob("*")]
    torn += [*media.glob("*/archives/tmp*"), *media.glob("*/archives/partial/*")]
    torn += [*media.glob("*/sites/*/*.incoming.*")]
    rows = {"takes": Take.everything, "stacks": Stack.everything, "sites": Site.everything}
    known = {name: {str(pk) for pk in m.values_list("pk", flat=True)} for name, m in rows.items()}
    known["rehearse"] = {str(pk) for pk in Rehearsal.objects.values_list("pk", flat=True)}
    known["exports"] = {str(pk) for pk in Export.everything.values_list("pk", flat=True)}
    torn += [
        path
        for name, here in known.items()
        for path in media.glob(f"*/{name}/*")
        if path.name.split(".")[0] not in here
    ]
    return [p for p in torn if (there := state_of(p)) and now - there.st_mtime > old]


def sweep() -> int:
    """Delete what was left behind; how many files and folders that were."""
    found = left_behind()
    for path in found:
        if path.is_dir():
            shutil.rmtree(path, ignore_errors=True)
        else:
            path.unlink(missing_ok=True)
    return len(found)
