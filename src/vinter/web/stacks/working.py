"""The small working copy of a stack, from which a finish is drawn; made again when it is missing."""

from pathlib import Path

from vinter.core.finish.scene import SCENE_VERSION, save_scene, scene_of
from vinter.web.stacks.models import Stack

WORKING_PX = 1600
WORKING = f"working-{SCENE_VERSION}.npz"


def working_copy(one: Stack) -> Path:
    """The copy's path; FileNotFoundError (as of the stack's picture) when there is nothing to make it
    from."""
    path = one.folder / WORKING
    if not path.is_file():
        for old in one.folder.glob("working-*.npz"):  # of an earlier version
            old.unlink(missing_ok=True)
        save_scene(path, scene_of(one.picture, WORKING_PX))
    return path
