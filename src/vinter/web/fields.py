"""Model fields of Vinter's own."""

from collections.abc import Sequence
from typing import Any

from django.db import models

from vinter.core.versions import Schema


class VersionedJSONField(models.JSONField):
    """Plain data of a schema: what an earlier version stored is brought up to date when it is read.

    Empty data (null, an empty object) are left as they are. In migrations it is a plain JSON field.
    """

    def __init__(self, *args: Any, schema: Schema | None = None, **kwargs: Any) -> None:
        self.schema = schema
        super().__init__(*args, **kwargs)

    def from_db_value(self, value: Any, expression: Any, connection: Any) -> Any:
        """The stored data in today's form."""
        found = super().from_db_value(value, expression, connection)
        return self.schema.current(found) if self.schema and found else found

    def deconstruct(self) -> tuple[str, str, Sequence[Any], dict[str, Any]]:
        """As a plain JSON field, so that a new version of the data needs no migration."""
        name, _, args, kwargs = super().deconstruct()
        return name, "django.db.models.JSONField", args, kwargs
