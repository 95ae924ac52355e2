"""How much a person, and all together, may store."""

import time
from pathlib import Path

from django.conf import settings

from vinter.core.errors import BadInput
from vinter.web.file_state import size_of

FRESH_SECONDS = 20.0
_measured: dict[Path, tuple[float, int]] = {}


class OverQuota(BadInput):
    """More than may be stored; nothing was changed."""


def stored(folder: Path, fresh: float = FRESH_SECONDS) -> int:
    """Bytes of all files in a folder, counted anew when the last count is older than some seconds."""
    when, size = _measured.get(folder, (-fresh, 0))
    if time.monotonic() - when >= fresh:
        size = size_of(folder)
        _measured[folder] = time.monotonic(), size
    return size


def check_quota(owner: int, size: int = 0) -> None:
    """OverQuota when these bytes more are over what the person, or this machine, may store."""
    media = Path(settings.MEDIA_ROOT)
    for folder, limit, whose in (
        (media / str(owner), settings.QUOTA_BYTES, "you may store"),
        (media, settings.MACHINE_QUOTA_BYTES, "is this server's limit"),
    ):
        if limit and stored(folder) + size > limit:
            raise OverQuota(
                f"{stored(folder) / 1e9:.1f} GB are stored and {limit / 1e9:.1f} GB is what {whose}: free "
                "some "
                "on the page Space, nothing was lost"
            )
        if limit:
            when, so_far = _measured[folder]
            _measured[folder] = when, so_far + size
