"""Stand-ins for a test: flash, power, and what firmware said to them; served on a port, or in virtual time, there with the
names that serial ports have in Python, for drivers that are given their port.

The rule: a served stand-in belongs to the rig's thread; all that is asked of it from a test is done there, and waited for. In
virtual time nothing passes but while something is read; a read ends when enough has come or its `timeout` is over.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from typing import TYPE_CHECKING, Any, Self, TypeVar

from wexicon import api
from wexicon.core.agenda import Agenda
from wexicon.core.faults import Fault
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.protocol.line_faults import Side, line_fault
from wexicon.core.protocol.observations import Heard, Listener, Observation, Role, Said
from wexicon.core.tuning import Tuning
from wexicon.links.virtual import VirtualClock, VirtualLink
from wexicon.rigs.rig import Rig
from wexicon.rigs.uart import Uart
from wexicon.testing.conversation import Conversation, Line
from wexicon.work.function.tap_decoder import TapDecoder

if TYPE_CHECKING:
    from wexicon.rigs.serving import Server


# How long a reading without a timeout waits before it is given up: a module would never answer (seconds).
FOREVER = 86_400.0


class VirtualPort:
    """The host's end of a stand-in's wire. `timeout` in seconds; None waits for a day of virtual time."""

    def __init__(self, name: str, agenda: Agenda, uart: Uart, tuning: Tuning) -> None:
        self._link = VirtualLink(name, VirtualClock(agenda), uart, tuning)
        uart.to_host = self._link.take
        self._kept = bytearray()
        self.name = self.port = name
        self.timeout: float | None = 1.0

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *exc: object) -> None:
        self.close()

    @property
    def baudrate(self) -> int:
        """Our side's rate."""
        return self._link.tuning.rate

    @baudrate.setter
    def baudrate(self, rate: int) -> None:
        self._link.tune(Tuning.of(rate, self._link.tuning.frame))

    @property
    def in_waiting(self) -> int:
        """How many bytes have come and were not read."""
        self._kept += self._link.read(self._link.clock.now())
        return len(self._kept)

    def write(self, data: bytes) -> int:
        """Sends bytes; gives how many."""
        self._link.write(bytes(data))
        return len(data)

    def read(self, size: int = 1) -> bytes:
        """So many bytes, or fewer when the timeout is over."""
        until = self._until()
        while len(self._kept) < size and (data := self._link.read(until)):
            self._kept += data
        return self._taken(size)

    def read_until(self, expected: bytes = b"\n", size: int | None = None) -> bytes:
        """All up to these bytes, or what has come when the timeout is over, or `size` bytes."""
        until = self._until()
        while expected not in self._kept and (size is None or len(self._kept) < size):
            data = self._link.read(until)
            if not data:
                break
            self._kept += data
        at = self._kept.find(expected)
        whole = len(self._kept) if at < 0 else at + len(expected)
        return self._taken(whole if size is None else min(whole, size))

    def readline(self) -> bytes:
        """A line with its end."""
        return self.read_until(b"\n")

    def reset_input_buffer(self) -> None:
        """Forgets what has come and was not read."""
        self._link.read(self._link.clock.now())
        self._kept.clear()

    def reset_output_buffer(self) -> None:
        """Does nothing: what was written is sent."""

    def flush(self) -> None:
        """Does nothing: what was written is sent."""

    def close(self) -> None:
        """Closes it."""
        self._link.close()

    def _until(self) -> float:
        return self._link.clock.now() + (FOREVER if self.timeout is None else self.timeout)

    def _taken(self, size: int) -> bytes:
        data = bytes(self._kept[:size])
        del self._kept[:size]
        return data


_Gives = TypeVar("_Gives")
# How long the rig's thread may take for what is asked of it (seconds).
PATIENCE = 10.0
# When it is looked after bytes whether something has ended by silence (seconds).
QUIET = (0.03, 0.3)


class ObservedStandIn(Listener):
    """One unit of a rig."""

    def __init__(self, rig: Rig, name: str) -> None:
        self.name = name
        self._agenda, self._unit = rig.agenda, rig.unit(name)
        self.family = self._unit.standin.family
        self._lines: list[Line] = []
        self._began = self._agenda.now
        self._lexicon: Lexicon | None = None
        with suppress(Fault):
            # A recording has none.
            self._lexicon = api.find_lexicon(self.family)
        lexicon = self._lexicon
        tuning = lexicon.factory if lexicon else self._unit.standin.uart.tuning
        # Bytes are seen as each side sent them, at whatever rate.
        self._decoder = TapDecoder(lexicon, tuning, self, lambda moved: None)
        self._in_rig(lambda: setattr(self._unit.standin.uart, "overheard", self._passes))

    @property
    def conversation(self) -> Conversation:
        """The lines so far, with times. Secrets are masked by the lexicon."""

        def told() -> Conversation:
            self._decoder.elapse(self._agenda.now)
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
        """Switches the module's power off for `seconds`, then on again."""
        self.power(False)
        self.wait(seconds)
        self.power(True)

    def work(self, do: str, what: str = "") -> None:
        """What a person does at a rig: `hold` or `release` a key, `pin` with `NAME high`. Raises ValueError."""
        self._in_rig(lambda: self._unit.work(do, what))
        self._note(f"{do} {what}".rstrip())

    def wait(self, seconds: float) -> None:
        """Lets time pass for the module."""
        raise NotImplementedError

    def note(self, seen: Observation) -> None:
        """A line that the decoder made of the bytes."""
        if isinstance(seen, Said):
            self._lines.append(Line(seen.at - self._began, Side.HOST, seen.text))
        elif isinstance(seen, Heard) and seen.role is not Role.ECHO:
            self._lines.append(Line(seen.at - self._began, Side.MODULE, seen.text))

    def _note(self, text: str) -> None:
        self._in_rig(lambda: self._lines.append(Line(self._agenda.now - self._began, None, text)))

    def _passes(self, from_host: bool, data: bytes) -> None:
        self._decoder.feed(Side.HOST if from_host else Side.MODULE, data, self._agenda.now)
        for after in QUIET:
            self._agenda.after(after, lambda: self._decoder.elapse(self._agenda.now))

    def _in_rig(self, action: Callable[[], _Gives]) -> _Gives:
        """Does it where the stand-in is, and gives its result."""
        return action()


class ServedStandIn(ObservedStandIn):
    """One unit of a running rig, on `port`."""

    def __init__(self, server: Server, name: str) -> None:
        self.server, self.port = server, server.ports[name]
        super().__init__(server.rig, name)

    @contextmanager
    def tapped(self, *faults: str, seed: int = 1, rate: int | None = None) -> Iterator[str]:
        """A port in front of the stand-in while the block lasts: what passes it is disturbed by `faults`, written as for
        `wexicon tap --fault`; the same `seed` hits the same bytes. It begins at `rate`, or at the factory's, and follows the
        module. Raises ValueError."""
        from wexicon.links.port import open_port
        from wexicon.testing.host_end import HostEnd
        from wexicon.work.function.tap import Tap

        disturbed = tuple(map(line_fault, faults))
        usual = self._lexicon.factory if self._lexicon else self._unit.standin.uart.tuning
        tuning = Tuning.of(rate or usual.rate, usual.frame)
        done = threading.Event()
        with HostEnd(tuning) as host, open_port(self.port, tuning) as module:
            tap = Tap(host, module, self._lexicon, disturbed, seed=seed)
            thread = threading.Thread(target=tap.run, args=(done.is_set,), name="tap", daemon=True)
            thread.start()
            try:
                yield host.port
            finally:
                done.set()
                thread.join(PATIENCE)

    def wait(self, seconds: float) -> None:
        """Waits for `seconds`."""
        threading.Event().wait(seconds)

    def _in_rig(self, action: Callable[[], _Gives]) -> _Gives:
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


class VirtualStandIn(ObservedStandIn):
    """One unit in virtual time, for firmware in Python: an hour takes milliseconds."""

    def __init__(self, rig: Rig, name: str) -> None:
        super().__init__(rig, name)
        self.port = VirtualPort(self.name, rig.agenda, self._unit.standin.uart, Tuning())

    def wait(self, seconds: float) -> None:
        """Lets so much virtual time pass; what comes meanwhile is kept for the next reading."""
        self._agenda.run_until(self._agenda.now + seconds)
