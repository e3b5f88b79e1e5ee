"""Types of columns that SQLAlchemy has none of its own for."""

from __future__ import annotations

from typing import Any

import sqlalchemy as sa


class NamedType(sa.types.UserDefinedType[Any]):
    """A type by the text with which it is declared."""

    cache_ok = True

    def __init__(self, text: str) -> None:
        self.text = text

    def get_col_spec(self, **_: Any) -> str:
        """The text."""
        return self.text
