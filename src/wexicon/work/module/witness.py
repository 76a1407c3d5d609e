"""The setting by whose unsaved change a restart shows: changed before it, it must have its saved value afterwards.

The rule: the change is written down before it is made, and taken back if the restart did not undo it.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping

from wexicon.core.values import UNSET, Value
from wexicon.work.contact.ledger import Planted, Stayed, Undone
from wexicon.work.module.module import Module


class Witness:
    """The witness that the module's lexicon names. `planted` has its value in the module's words while another one is there."""

    def __init__(self, module: Module) -> None:
        self.module = module
        self.name = module.lexicon.start.witness
        self.planted: dict[str, str] = {}
        self._other: Value | None = None

    def values(self, known: Mapping[str, Value]) -> tuple[Value, Value] | None:
        """The value that it has, and another one; None if there is no witness. `known` are values that need not be read."""
        if not self.name or not self.module.has(self.name):
            return None
        value = known[self.name] if self.name in known else self._read()
        kind = self.module.lexicon.settings[self.name].kind
        other = kind.another(value) if value is not None and value is not UNSET else None
        return None if value is None or other is None else (value, other)

    def plant(self, known: Mapping[str, Value], remember: Callable[[], None]) -> bool:
        """Gives it another value, without saving it; whether that could be done. `known` are values that were just read;
        `remember` is called before anything is written."""
        found = self.values(known)
        if found is None:
            return False
        value, self._other = found
        self.planted = {self.name: self.module.lexicon.settings[self.name].kind.encode(value)}
        remember()
        self._write(self._other)
        if self._glance() != self._other:
            return False
        self.module.attention.ledger.note(Planted(self.module.session.clock.now()))
        return True

    def undone(self) -> bool:
        """Whether the module answers, for now, that it has another value than the one that was planted."""
        value = self._glance()
        return value is not None and value != self._other

    def look(self, found: Value | None = None) -> bool:
        """Whether a restart has undone the change; otherwise it is taken back. `found` is its value if it was just read."""
        ledger, now = self.module.attention.ledger, self.module.session.clock.now
        undone = (self._read() if found is None else found) != self._other
        if undone:
            ledger.note(Undone(now()))
        else:
            ledger.note(Stayed(now()))
            self._write(self.module.lexicon.settings[self.name].kind.decode(self.planted[self.name]))
        self.planted = {}
        return undone

    def _glance(self) -> Value | None:
        """Its value by one question; an answer that takes longer than any before counts as none."""
        patience = self.module.attention.observer.quick_look() + self.module.session.link.tuning.wire_time(16)
        return self.module.settings.glance(self.name, patience)

    def _read(self) -> Value | None:
        return self.module.settings.read([self.name])[self.name].value

    def _write(self, value: Value) -> None:
        self.module.settings.write({self.name: value}, {})
