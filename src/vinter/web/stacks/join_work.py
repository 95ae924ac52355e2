"""What a pool process does to join stacks. No database here."""

from dataclasses import replace
from pathlib import Path

from vinter.core.sky.site import Site
from vinter.core.stack.file import JOINED, read_about, read_stack, share_of_sky
from vinter.core.stack.joining.drawing import Joined, join
from vinter.core.stack.joining.panels import Panel
from vinter.core.stack.plate_solve import field_from
from vinter.core.versions import Data


def join_files(paths: list[tuple[str, Path, Data, float]], site: Site, out: Path, layout: str) -> Joined:
    """Join stacks, each a name, a picture, its field as kept and its Unix time, into a file."""
    panels = []
    for name, path, field, unix in paths:
        rgb, mask, _ = read_stack(path)
        panels.append(
            Panel(name=name, rgb=rgb, sky=share_of_sky(rgb, mask), field=field_from(field), unix=unix)
        )
    about = replace(read_about(paths[0][1]), kind=JOINED, solved=None, measured={})  # those of the first part
    return join(panels, site, out, about, layout)
