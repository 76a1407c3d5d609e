"""The face of a layer: its public names in one place, each imported when it is asked for."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from importlib import import_module
from typing import Any


def face(package: str, names: Mapping[str, str]) -> Callable[[str], Any]:
    """The `__getattr__` of a package whose public `names` stand in its modules."""

    def get(name: str) -> Any:
        if name not in names:
            raise AttributeError(f"module {package} has no attribute {name}")
        return getattr(import_module(f"{package}.{names[name]}"), name)

    return get
