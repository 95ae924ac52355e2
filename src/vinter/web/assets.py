"""Styles, scripts and fonts as files whose names carry a hash, so that an upgrade never serves an old one."""

from django.core.management import call_command
from whitenoise.storage import CompressedManifestStaticFilesStorage


class HashedAssets(CompressedManifestStaticFilesStorage):  # type: ignore[misc]
    """Hashed names, inside scripts that import each other as well."""

    support_js_module_import_aggregation = True


def collect() -> None:
    """Gather all assets under their hashed names; done before serving."""
    call_command("collectstatic", verbosity=0, interactive=False, clear=False)
