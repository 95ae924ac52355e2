"""Model fields of Vinter's own."""

from collections.abc import Callable, Sequence

from django.db import models
from django.db.backends.base.base import BaseDatabaseWrapper
from django.db.models import NOT_PROVIDED, Expression
from django.db.models.fields.json import KeyTransform

from vinter.core.versions import Data, Schema


class VersionedJSONField(models.JSONField):
    """Plain data of a schema: stored with their version, and brought up to date when they are read.

    With ``each`` the data are a dictionary whose values are of the schema, each with a version of its own.
    Empty data (null, an empty object) are left as they are. In migrations it is a plain JSON field.
    """

    def __init__(
        self,
        *,
        schema: Schema | None = None,
        each: bool = False,
        default: Callable[[], object] | None = None,
        null: bool = False,
        blank: bool = False,
        editable: bool = True,
    ) -> None:
        self.schema, self.each = schema, each
        super().__init__(null=null, blank=blank, editable=editable, default=default or NOT_PROVIDED)

    def today(self, value: object) -> object:
        """Stored data in today's form. BadInput when a later Vinter wrote them."""
        return self._of_all(value, self.schema.current) if self.schema else value

    def _of_all(self, value: object, change: Callable[[Data], Data]) -> object:
        if not value or not isinstance(value, dict):
            return value
        return {name: change(one) for name, one in value.items()} if self.each else change(value)

    def from_db_value(
        self, value: str | None, expression: Expression, connection: BaseDatabaseWrapper
    ) -> object:
        """The stored data in today's form; a part of them as it is."""
        found = super().from_db_value(value, expression, connection)
        return found if isinstance(expression, KeyTransform) else self.today(found)

    def get_db_prep_value(
        self, value: object, connection: BaseDatabaseWrapper, prepared: bool = False
    ) -> object:
        """What is stored: today's form with its version; data without one are of the first."""
        if isinstance(value, dict):
            value = self.today(value)
        return super().get_db_prep_value(value, connection, prepared)

    def deconstruct(self) -> tuple[str, str, Sequence[object], dict[str, object]]:
        """As a plain JSON field, so that a new version of the data needs no migration."""
        name, _, args, kwargs = super().deconstruct()
        return name, "django.db.models.JSONField", args, kwargs
