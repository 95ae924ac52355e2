"""Every address the application has, by name, and those that only take."""

from django.urls import get_resolver

PATTERNS = {p.name: p for room in get_resolver().url_patterns for p in room.url_patterns}
POSTED = set(
    """
    sign-out enter-demo phone-add phone-clamp phone-delete measured sites-import site-reading
    site-light site-air-refuse site-known-delete horizon-draw horizon-import scout-add scout-delete
    forecast-refresh forecast-import station-import sites-import-chosen
    bin-put bin-several bin-restore bin-empty space-again left-out-delete archive-import card-revoke
    lesson frame-finish shot-again pack-change rehearse-begin rehearse-press
    rehearse-leave shoot take-upload take-origin take-split take-focus lens-refuse field-notes picture-new
    measure bracket-new stack-lens
    decide frame-type stack-new stack-again stack-otherwise paint-try finish-new finish-copy finish-name
    finish-keep-look finish-pick finish-plain stacks-join draw finish-save export job-cancel invite
    account-end hand-on export-chosen
    """.split()
)
