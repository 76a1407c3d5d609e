"""What is being done, and what the operator is asked, on a terminal.

The rule: all of it goes to standard error; a line that stays never runs into the line that changes.
"""

from __future__ import annotations

import sys
import threading
from collections.abc import Callable
from typing import Any

from wexicon.cli.show import print_note, styled
from wexicon.core.faults import ModuleFault
from wexicon.core.protocol.observations import Began, Listener, Observation


class Progress(Listener):
    """Tells on a terminal which step is being done; silent in a pipe."""

    def __init__(self, title: str, *, quiet: bool = False) -> None:
        self._title = title
        self._status: Any = None
        if sys.stderr.isatty() and not quiet:
            from rich.console import Console

            self._status = Console(stderr=True, highlight=False, emoji=False).status(title)

    def __enter__(self) -> Progress:
        if self._status:
            self._status.start()
        return self

    def __exit__(self, *exc: object) -> None:
        if self._status:
            self._status.stop()

    def note(self, seen: Observation) -> None:
        """A step of the work began."""
        if isinstance(seen, Began):
            self.step(seen.step)

    def step(self, step: str) -> None:
        """The step that has started."""
        if self._status:
            self._status.update(f"{self._title}: {step}")

    def say(self, text: str) -> None:
        """A line that stays, above the step that is being done."""
        if self._status:
            from rich.text import Text

            self._status.console.print(Text.from_ansi(text))
        else:
            print_note(text)


class Keyboard:
    """The lines that are typed, for whoever asked last. There is one for the program: two readers would take each other's."""

    def __init__(self) -> None:
        self._takers: list[Callable[[str], object]] = []
        self._thread: threading.Thread | None = None

    def give(self, taker: Callable[[str], object]) -> None:
        """From now on `taker` is given each line, until it is taken away again."""
        self._takers.append(taker)
        if self._thread is None:
            self._thread = threading.Thread(target=self._read, name="keyboard", daemon=True)
            self._thread.start()

    def take_away(self, taker: Callable[[str], object]) -> None:
        """The one before is given the lines again."""
        self._takers.remove(taker)

    def _read(self) -> None:
        for line in sys.stdin:
            if self._takers:
                self._takers[-1](line.rstrip("\r\n"))


KEYBOARD = Keyboard()


class Person:
    """A person at the bench, asked on the terminal by numbered steps. A step is done when the module answers; Enter is asked
    for only where no answer would show it."""

    switches_power = False
    there = True

    def __init__(self, progress: Progress) -> None:
        self._progress = progress
        self._steps = 0
        self._asked = False

    def ask(self, act: str, text: str) -> None:
        self._steps += 1
        self._asked = True
        self._progress.say(styled(f"operator, step {self._steps}: ", "bold yellow") + text)

    def confirm(self, act: str, text: str, wait: Callable[[Callable[[], bool]], None]) -> None:
        if not sys.stdin.isatty():
            raise ModuleFault(f"nobody is there to press Enter: {text}", hint="Run it at a terminal.")
        self.ask(act, text)
        pressed = threading.Event()
        taker = lambda line: pressed.set()  # noqa: E731
        KEYBOARD.give(taker)
        try:
            wait(pressed.is_set)
        finally:
            KEYBOARD.take_away(taker)

    def noticed(self) -> None:
        # A fixture may have done it, and nobody was asked.
        if self._asked:
            self._asked = False
            self._progress.say("  the module answers; release the key, if one is held")
