"""Lets a package give names of its modules that are imported when first used."""

from collections.abc import Callable, Mapping
from importlib import import_module
from typing import Any


def names_of(package: str, homes: Mapping[str, str]) -> Callable[[str], Any]:
    """What a package needs as its `__getattr__` (PEP 562): by name, the module that each name is in."""

    def find(name: str) -> Any:
        if name not in homes:
            raise AttributeError(f"module {package!r} has no attribute {name!r}")
        return getattr(import_module(homes[name]), name)

    return find
