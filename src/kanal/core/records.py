"""Records of which not all fields count when two of them are compared."""

from __future__ import annotations

from typing import Any, ClassVar


class PartlyCompared:
    """Mixed into a record (made with `eq=False`): `aside` names the fields that are neither compared nor shown."""

    __slots__ = ()
    __struct_fields__: ClassVar[tuple[str, ...]]
    aside: ClassVar[frozenset[str]]

    def _counted(self) -> dict[str, Any]:
        return {name: getattr(self, name) for name in self.__struct_fields__ if name not in self.aside}

    def __eq__(self, other: object) -> bool:
        return type(other) is type(self) and self._counted() == other._counted()

    def __ne__(self, other: object) -> bool:  # Python would ask the struct, which only knows what is the very same
        return not self == other

    def __hash__(self) -> int:
        return hash(tuple(self._counted().values()))

    def __repr__(self) -> str:
        return f"{type(self).__name__}({', '.join(f'{name}={value!r}' for name, value in self._counted().items())})"
