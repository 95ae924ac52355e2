"""What a pool process does to join stacks. No database here."""

import json
from pathlib import Path
from typing import Any

import numpy as np
import tifffile

from vinter.core.finish.scene import read_stack
from vinter.core.sky.site import Site
from vinter.core.stack.joining.drawing import Joined, join
from vinter.core.stack.joining.panels import Panel
from vinter.core.stack.plate_solve import field_from


def join_files(
    paths: list[tuple[str, Path, dict[str, Any], float]], site: Site, out: Path, layout: str
) -> Joined:
    """Join stacks, each a name, a picture, its field as kept and its Unix time, into a file."""
    panels = []
    for name, path, field, unix in paths:
        rgb, mask, _ = read_stack(path)
        sky = np.ones(rgb.shape[:2], np.float32) if mask is None else mask.astype(np.float32) / 255
        panels.append(Panel(name=name, rgb=rgb, sky=sky, field=field_from(field), unix=unix))
    with tifffile.TiffFile(paths[0][1]) as file:
        description = file.pages[0].description or "{}"  # type: ignore[union-attr]
    data = {**json.loads(description), "vinter": "joined"}
    data.pop("field", None)  # of the first part alone
    return join(panels, site, out, json.dumps(data), layout)
