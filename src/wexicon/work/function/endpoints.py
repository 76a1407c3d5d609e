"""The ends of a traffic test: each sends packets on its port and reports those that arrive.

The rule: an endpoint takes short turns: it sends a packet if one waits, and reports what arrives. A thread may work it, or one
thread all ends in turn. All bytes pass the session's driver.
"""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Callable, Sequence
from typing import Any, Protocol

from wexicon.core.faults import ModuleFault
from wexicon.core.formats.lexicon import Lexicon, TrafficTable
from wexicon.core.protocol.observations import Heard, Listener, Observation, Role
from wexicon.core.protocol.session import Session
from wexicon.core.protocol.transfers import Packets, Tally
from wexicon.core.text import to_text
from wexicon.work.module.module import Module

# How long an endpoint that has a thread of its own listens in one turn (seconds).
LOOKS = 0.01
# How many packets in a row the sending module may refuse.
MOST_REFUSED = 3

# Takes what arrived: bytes, or the text of a packet.
Arrived = Callable[[bytes | str], None]


class Outbox:
    """The packets that one endpoint has to send, filled by other threads. `clock` stamps each as it is taken."""

    def __init__(self, clock: Callable[[], float]) -> None:
        self._clock = clock
        self._waiting: deque[tuple[str, int, Tally]] = deque()
        self._closed = threading.Event()

    @property
    def closed(self) -> bool:
        """Whether everything has been sent."""
        return self._closed.is_set()

    @property
    def waits(self) -> bool:
        """Whether a packet waits to be sent."""
        return bool(self._waiting)

    def put(self, way: str, number: int, tally: Tally) -> None:
        """Adds a packet."""
        self._waiting.append((way, number, tally))

    def take(self) -> tuple[str, int] | None:
        """The next packet, counted as sent; None if there is none."""
        if not self._waiting:
            return None
        way, number, tally = self._waiting.popleft()
        tally.sent[number] = self._clock()
        return way, number

    def close(self) -> None:
        """Stops sending."""
        self._closed.set()


class Endpoint(Protocol):
    """One port. `signal` is what its module reported of the packets that it heard, `refused` why it refused packets that were
    sent by command, `lexicon` that of its module, if known."""

    session: Session
    signal: dict[str, list[float]]
    refused: list[str]
    lexicon: Lexicon | None

    def turn(self, outbox: Outbox, packets: Packets, arrived: Arrived, looks: float) -> None:
        """Sends a packet if one is in the outbox, and waits at most `looks` seconds for something to arrive. Raises Fault."""


class _PacketTurn:
    """The machine of one turn of a transparent endpoint."""

    def __init__(self, outgoing: bytes, arrived: Arrived, until: float) -> None:
        self._outgoing, self._arrived, self._until = outgoing, arrived, until
        self.done = False

    def feed(self, data: bytes, now: float) -> Sequence[Observation]:
        self._arrived(data)
        self.done = True
        return [Heard(now, to_text(data), Role.UNMATCHED)]

    def elapse(self, now: float) -> Sequence[Observation]:
        self.done = now >= self._until
        return ()

    def next_time(self) -> float | None:
        return self._until

    def outgoing(self, now: float) -> bytes:
        data, self._outgoing = self._outgoing, b""
        return data


class TransparentEndpoint:
    """A port whose module passes data through, or a wire."""

    def __init__(self, session: Session, lexicon: Lexicon | None = None) -> None:
        self.session, self.lexicon = session, lexicon
        self.signal: dict[str, list[float]] = {}
        self.refused: list[str] = []

    def turn(self, outbox: Outbox, packets: Packets, arrived: Arrived, looks: float) -> None:
        packet = outbox.take()
        data = packets.made(*packet) if packet else b""
        self.session.drive(_PacketTurn(data, arrived, self.session.clock.now() + looks))


class DataEndpoint(TransparentEndpoint):
    """A module that passes data through in its data mode, and takes commands in another one: for sweeps."""

    def __init__(self, module: Module) -> None:
        super().__init__(module.session, module.lexicon)
        self.module = module

    def begin_commands(self) -> None:
        """Enters command mode, if it is not there. Raises Fault."""
        if not self.module.attention.held:
            self.module.attention.gain([*self.module.expected_links(), *self.module.likely])

    def begin_data(self) -> None:
        """Leaves it, and goes to the rate of data mode as it was last written."""
        self.module.leave()
        self.module.attention.lose()
        self.session.tune(self.module.data_link)


class CommandEndpoint(Listener):
    """A port whose module sends by a command and reports arrivals by an event, as `[traffic]` of its lexicon says. It listens
    to its session."""

    def __init__(self) -> None:
        self.signal: dict[str, list[float]] = {}
        self.traffic: TrafficTable | None = None
        # The other module's address, if the command needs it.
        self.to: Any = None
        self.refused: list[str] = []
        self._refused_in_a_row = 0
        self._came = False
        self._arrived: Arrived = lambda text: None

    def use(self, module: Module, traffic: TrafficTable) -> None:
        """Uses this module from now on."""
        self.module, self.traffic, self.session = module, traffic, module.session
        self.lexicon: Lexicon | None = module.lexicon

    def begin_commands(self) -> None:
        """It always takes commands."""

    def begin_data(self) -> None:
        """It sends by command."""

    def turn(self, outbox: Outbox, packets: Packets, arrived: Arrived, looks: float) -> None:
        assert self.traffic
        self._arrived = arrived
        packet = outbox.take()
        if packet is None:
            self._came = False
            self.session.quiet(looks, lambda: self._came)
            return
        given = {self.traffic.data: packets.text(*packet)}
        if self.traffic.address:
            given["to"] = self.to
        try:
            self.module.do(self.traffic.send, given)
            self._refused_in_a_row = 0
        except ModuleFault as fault:
            self.refused.append(fault.what)
            # A packet that the module refuses is lost; several in a row end the test.
            self._refused_in_a_row += 1
            if self._refused_in_a_row >= MOST_REFUSED:
                raise

    def note(self, seen: Observation) -> None:
        traffic = self.traffic
        if traffic and isinstance(seen, Heard) and seen.name == traffic.arrives:
            for name in traffic.signal:
                if isinstance(seen.values.get(name), int | float):
                    self.signal.setdefault(name, []).append(float(seen.values[name]))
            self._came = True
            self._arrived(str(seen.values.get(traffic.data, "")))
