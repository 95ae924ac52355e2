"""Model fields of Vinter's own."""

from collections.abc import Callable, Sequence
from typing import Any

from django.db import models
from django.db.models.fields.json import KeyTransform

from vinter.core.versions import Schema


class VersionedJSONField(models.JSONField):
    """Plain data of a schema: stored with their version, and brought up to date when they are read.

    With ``each`` the data are a dictionary whose values are of the schema, each with a version of its own.
    Empty data (null, an empty object) are left as they are. In migrations it is a plain JSON field.
    """

    def __init__(self, *args: Any, schema: Schema | None = None, each: bool = False, **kwargs: Any) -> None:
        self.schema, self.each = schema, each
        super().__init__(*args, **kwargs)

    def today(self, value: Any) -> Any:
        """Stored data in today's form. BadInput when a later Vinter wrote them."""
        return self._of_all(value, self.schema.current) if self.schema else value

    def _of_all(self, value: Any, change: Callable[[Any], Any]) -> Any:
        if not value:
            return value
        return {name: change(one) for name, one in value.items()} if self.each else change(value)

    def from_db_value(self, value: Any, expression: Any, connection: Any) -> Any:
        """The stored data in today's form; a part of them as it is."""
        found = super().from_db_value(value, expression, connection)
        return found if isinstance(expression, KeyTransform) else self.today(found)

    def get_db_prep_value(self, value: Any, connection: Any, prepared: bool = False) -> Any:
        """What is stored: today's form with its version; data without one are of the first."""
        if isinstance(value, dict):
            value = self.today(value)
        return super().get_db_prep_value(value, connection, prepared)

    def deconstruct(self) -> tuple[str, str, Sequence[Any], dict[str, Any]]:
        """As a plain JSON field, so that a new version of the data needs no migration."""
        name, _, args, kwargs = super().deconstruct()
        return name, "django.db.models.JSONField", args, kwargs
