"""The ends of a traffic test: each sends packets on its port and reports those that arrive.

The rule: an endpoint works in a thread of its own until its outbox is closed, so that nothing that arrives waits for what is
sent. All bytes pass the session's driver.
"""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Callable, Sequence
from typing import Any, Protocol

from wexicon.core.faults import ModuleFault
from wexicon.core.formats.lexicon import TrafficTable
from wexicon.core.protocol.observations import Heard, Listener, Observation, Role
from wexicon.core.protocol.packets import Packets, Tally
from wexicon.core.protocol.session import Session
from wexicon.core.text import to_text
from wexicon.work.module.module import Module

# How long an endpoint listens before it checks its outbox (seconds).
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
    """One port. `signal` is what its module reported of the packets that it heard."""

    session: Session
    signal: dict[str, list[float]]

    def serve(self, outbox: Outbox, packets: Packets, arrived: Arrived) -> None:
        """Sends what is in the outbox and reports what arrives, until the outbox is closed. Raises Fault."""


class _PacketStream:
    """The machine of a transparent endpoint."""

    def __init__(self, outbox: Outbox, packets: Packets, arrived: Arrived, now: float) -> None:
        self._outbox, self._packets, self._arrived = outbox, packets, arrived
        self._looked = now

    @property
    def done(self) -> bool:
        return self._outbox.closed

    def feed(self, data: bytes, now: float) -> Sequence[Observation]:
        self._arrived(data)
        return [Heard(now, to_text(data), Role.UNMATCHED)]

    def elapse(self, now: float) -> Sequence[Observation]:
        return ()

    def next_time(self) -> float | None:
        return self._looked + LOOKS

    def outgoing(self, now: float) -> bytes:
        self._looked = now
        packet = self._outbox.take()
        return self._packets.made(*packet) if packet else b""


class TransparentEndpoint:
    """A port whose module passes data through, or a wire."""

    def __init__(self, session: Session) -> None:
        self.session = session
        self.signal: dict[str, list[float]] = {}

    def serve(self, outbox: Outbox, packets: Packets, arrived: Arrived) -> None:
        self.session.drive(_PacketStream(outbox, packets, arrived, self.session.clock.now()))


class CommandEndpoint(Listener):
    """A port whose module sends by a command and reports arrivals by an event, as `[traffic]` of its lexicon says. It listens
    to its session."""

    def __init__(self) -> None:
        self.signal: dict[str, list[float]] = {}
        self.traffic: TrafficTable | None = None
        # The other module's address, if the command needs it.
        self.to: Any = None
        self._arrived: Arrived = lambda text: None

    def use(self, module: Module, traffic: TrafficTable) -> None:
        """Uses this module from now on."""
        self.module, self.traffic, self.session = module, traffic, module.session

    def serve(self, outbox: Outbox, packets: Packets, arrived: Arrived) -> None:
        assert self.traffic
        self._arrived = arrived
        refused = 0
        while not outbox.closed:
            packet = outbox.take()
            if packet is None:
                self.session.quiet(LOOKS)
                continue
            given = {self.traffic.data: packets.text(*packet)}
            if self.traffic.address:
                given["to"] = self.to
            try:
                self.module.do(self.traffic.send, given)
                refused = 0
            except ModuleFault:
                # A packet that the module refuses is lost; several in a row end the test.
                refused += 1
                if refused >= MOST_REFUSED:
                    raise

    def note(self, seen: Observation) -> None:
        traffic = self.traffic
        if traffic and isinstance(seen, Heard) and seen.name == traffic.arrives:
            for name in traffic.signal:
                if isinstance(seen.values.get(name), int | float):
                    self.signal.setdefault(name, []).append(float(seen.values[name]))
            self._arrived(str(seen.values.get(traffic.data, "")))
