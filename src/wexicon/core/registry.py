"""Names that stand for things, and the one way to add to them: value kinds, filters, functions, stand-ins, links.

The rule: what Wexicon brings is there from the start; what other packages bring is looked for only when a name is not
known. Each registry has an entry point group of its name, `wexicon.kinds` and so on.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from typing import ClassVar, Generic, TypeVar

T = TypeVar("T")


class Registry(Mapping[str, T], Generic[T]):
    """`group` names it. `find_more` is given a group, and gives what other packages have to add; who may look at what is
    installed sets it."""

    find_more: ClassVar[Callable[[str], Mapping[str, object]]] = staticmethod(lambda group: {})

    def __init__(self, group: str, things: Mapping[str, T]) -> None:
        self.group = group
        self._things: dict[str, T] = dict(things)
        self._complete = False

    def add(self, name: str, thing: T) -> None:
        """Adds one, or puts it in another's place."""
        self._things[name] = thing

    def put_back(self, name: str, thing: T | None) -> None:
        """Has a name stand for what it stood for before it was added; None if for nothing."""
        if thing is None:
            self._things.pop(name, None)
        else:
            self._things[name] = thing

    def complete(self) -> None:
        """Adds what other packages bring; what already exists stays."""
        if not self._complete:
            self._complete = True
            for name, thing in type(self).find_more(self.group).items():
                self._things.setdefault(name, thing)  # type: ignore[arg-type]

    def __getitem__(self, name: str) -> T:
        if name not in self._things:
            self.complete()
        return self._things[name]

    def __iter__(self) -> Iterator[str]:
        return iter(self._things)

    def __len__(self) -> int:
        return len(self._things)
