"""A stand-in that is served for a test: its port, its flash, its power, and what firmware said to it.

The rule: the stand-in belongs to the rig's thread; all that is asked of it from a test is done there, and waited for.
"""

from __future__ import annotations

import threading
from collections.abc import Callable
from typing import TYPE_CHECKING, Any, TypeVar

from wexicon import api
from wexicon.core.protocol.line_faults import Side
from wexicon.core.protocol.observations import Heard, Listener, Observation, Role, Said
from wexicon.core.tuning import Tuning
from wexicon.testing.conversation import Conversation, Line
from wexicon.work.function.tap_decoder import TapDecoder

if TYPE_CHECKING:
    from wexicon.rigs.serving import Server

_Gives = TypeVar("_Gives")
# How long the rig's thread may take for what is asked of it (seconds).
PATIENCE = 10.0
# When it is looked after bytes whether something has ended by silence (seconds).
QUIET = (0.03, 0.3)


class ServedStandIn(Listener):
    """One unit of a running rig."""

    def __init__(self, server: Server, name: str) -> None:
        self.server, self.name = server, name
        self._unit = server.bench.unit(name)
        self.family, self.port = self._unit.standin.family, server.ports[name]
        self._lines: list[Line] = []
        self._began = server.bench.agenda.now
        lexicon = api.find_lexicon(self.family)
        self._decoder = TapDecoder(lexicon, lexicon.factory, self, self._moved)
        uart = self._unit.standin.uart
        self._in_rig(lambda: setattr(uart, "overheard", self._passes))

    @property
    def conversation(self) -> Conversation:
        """What was said so far. Secrets are masked by the lexicon."""

        def told() -> Conversation:
            self._decoder.elapse(self.server.bench.agenda.now)
            self._decoder.flush()
            return Conversation(sorted(self._lines, key=lambda line: line.at))

        return self._in_rig(told)

    def stored(self, name: str) -> Any:
        """What the module's flash holds under this name of the stand-in's datasheet. Raises KeyError."""
        return self._in_rig(lambda: self._unit.standin.flash)[name]

    def power(self, on: bool) -> None:
        """Switches the module's power."""
        self._in_rig(lambda: self._unit.standin.power(on))
        self._note("power on" if on else "power off")

    def power_cut(self, seconds: float = 0.2) -> None:
        """Takes the module's power for so long, and waits for that."""
        self.power(False)
        threading.Event().wait(seconds)
        self.power(True)

    def work(self, do: str, what: str = "") -> None:
        """What a person does at a bench: `hold` or `release` a key, `pin` with `NAME high`. Raises ValueError."""
        self._in_rig(lambda: self._unit.work(do, what))
        self._note(f"{do} {what}".rstrip())

    def note(self, seen: Observation) -> None:
        """A line that the decoder made of the bytes."""
        if isinstance(seen, Said):
            self._lines.append(Line(seen.at - self._began, Side.HOST, seen.text))
        elif isinstance(seen, Heard) and seen.role is not Role.ECHO:
            self._lines.append(Line(seen.at - self._began, Side.MODULE, seen.text))

    def _note(self, text: str) -> None:
        self._in_rig(lambda: self._lines.append(Line(self.server.bench.agenda.now - self._began, None, text)))

    def _passes(self, from_host: bool, data: bytes) -> None:
        agenda = self.server.bench.agenda
        self._decoder.feed(Side.HOST if from_host else Side.MODULE, data, agenda.now)
        for after in QUIET:
            agenda.after(after, lambda: self._decoder.elapse(agenda.now))

    def _moved(self, tuning: Tuning) -> None:
        # Bytes are seen as each side sent them, at whatever rate.
        pass

    def _in_rig(self, action: Callable[[], _Gives]) -> _Gives:
        """Does it in the rig's thread and gives its result."""
        made: list[_Gives] = []
        faults: list[Exception] = []
        done = threading.Event()

        def act() -> None:
            try:
                made.append(action())
            except Exception as fault:
                faults.append(fault)
            done.set()

        self.server.call(act)
        if not done.wait(PATIENCE):
            raise TimeoutError(f"the rig of {self.name} does not answer")
        if faults:
            raise faults[0]
        return made[0]
