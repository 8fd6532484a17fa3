"""``among``: ``sha__among=digests`` is one parameter, however many digests there are.

Django's ``in`` binds a parameter a value, and PostgreSQL takes no more than 65,535 in a statement.
"""

from collections.abc import Collection
from typing import Any

from django.db.models import Field, ForeignObject, Lookup


@ForeignObject.register_lookup
@Field.register_lookup
class Among(Lookup):  # type: ignore[type-arg]
    """Equal to one of the values of an array."""

    lookup_name = "among"

    def get_prep_lookup(self) -> list[Any]:
        values: Collection[Any] = self.rhs
        return [self.lhs.output_field.get_prep_value(v) for v in values]

    def as_sql(self, compiler: Any, connection: Any) -> tuple[str, list[Any]]:
        lhs, params = self.process_lhs(compiler, connection)
        kind = self.lhs.output_field.cast_db_type(connection).partition("(")[0]
        return f"{lhs} = ANY(%s::{kind}[])", [*params, self.rhs]
