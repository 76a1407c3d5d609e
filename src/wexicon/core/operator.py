"""What only operators can do: keys, power, wires. A session asks for it and notices by itself when it has been done.

The rule: asking never waits. Who asks goes on listening and trying until the module answers or patience ends. Only what no
answer shows is confirmed.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Protocol

from wexicon.core.faults import ModuleFault


class Operator(Protocol):
    """Operates keys, pins and power: a person at the bench, a fixture, or a rig with its own stand-ins."""

    # Whether asking switches the power itself, so that the power cycle is certain.
    switches_power: bool
    # Whether there is anybody at all.
    there: bool

    def ask(self, act: str, text: str) -> None:
        """Asks for `act` (attention, power-cycle, release), put into words in `text`; returns at once."""

    def noticed(self) -> None:
        """What was asked for has been done."""

    def confirm(self, act: str, text: str, wait: Callable[[Callable[[], bool]], None]) -> None:
        """Asks for something whose end no answer of the module shows, and returns when it was confirmed. `wait` goes on
        listening until the condition that it is given is true. Raises ModuleFault if there is no operator."""

    def answer(self, text: str, wait: Callable[[Callable[[], bool]], None]) -> str | None:
        """Asks for something that the operator reads and types; None if there is no operator. `wait` as for `confirm`."""


class NoOperator:
    """No operator: a step that needs one fails and says so."""

    switches_power = False
    there = False

    def ask(self, act: str, text: str) -> None:
        pass

    def noticed(self) -> None:
        pass

    def confirm(self, act: str, text: str, wait: Callable[[Callable[[], bool]], None]) -> None:
        raise ModuleFault(f"there is no operator to confirm: {text}", hint="Run it with an operator at a terminal.")

    def answer(self, text: str, wait: Callable[[Callable[[], bool]], None]) -> str | None:
        return None
