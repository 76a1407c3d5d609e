"""Traffic through a finished link: numbered packets from one port to the other, and an answer to each on the way back.

The rule: what is counted was seen on a port. A packet that did not come in time is lost; one that came later all the same is
counted as come. Each end has a thread of its own, so that nothing that comes waits for what is sent.
"""

from __future__ import annotations

import threading
from collections import deque
from collections.abc import Callable, Mapping, Sequence
from datetime import UTC, datetime
from functools import partial
from typing import Any, Protocol

import msgspec

from wexicon.core.faults import CallFault, Fault, ModuleFault, Stopped
from wexicon.core.formats.lexicon import TrafficTable
from wexicon.core.protocol.observations import Heard, Listener, Observation, Role
from wexicon.core.protocol.packets import Damaged, Packets, Tally, percentile
from wexicon.core.protocol.session import Session
from wexicon.core.text import to_text
from wexicon.work.module.module import Module
from wexicon.work.results.failure import Failure
from wexicon.work.results.traffic import Direction, PacketTiming, TrafficResult
from wexicon.work.results.verdicts import Verdict

OUT, BACK = "a", "b"
# How long an end listens before it looks whether there is something to send (seconds).
LOOKS = 0.01
# So many packets in a row may be refused by the module that is to send them.
MOST_REFUSED = 3


class TrafficOrder(msgspec.Struct, frozen=True):
    """What is passed: how many packets (0: until the time is over), for how long (seconds, 0: until all are sent), how large
    (bytes), lines or bytes of any value; one every so many seconds (0: when the answer to the last has come), and how long an
    answer is waited for."""

    count: int = 20
    duration: float = 0.0
    size: int = 32
    lines: bool = True
    every: float = 0.0
    within: float = 2.0
    seed: int = 1


class Endpoint(Protocol):
    """One port: packets go out by `send`; what comes while it listens is given to `came`. `signal` is what its module told of
    how well it heard."""

    session: Session
    came: Callable[[Any], None]
    signal: dict[str, list[float]]

    def send(self, packets: Packets, way: str, number: int) -> None: ...

    def listen(self, seconds: float) -> None: ...


class TransparentEndpoint:
    """A port whose module passes everything through, or a wire."""

    def __init__(self, session: Session) -> None:
        self.session = session
        self.came: Callable[[Any], None] = lambda data: None
        self.signal: dict[str, list[float]] = {}

    def send(self, packets: Packets, way: str, number: int) -> None:
        self.session.send(packets.made(way, number))

    def listen(self, seconds: float) -> None:
        link = self.session.link
        data = link.read(link.clock.now() + seconds)
        if data:
            # Not through the engine: it would look for lines.
            self.session.listener.note(Heard(link.clock.now(), to_text(data), Role.UNMATCHED))
            self.came(data)


class CommandEndpoint(Listener):
    """A port whose module sends by a command and tells what came by an event, as `[traffic]` of its lexicon says. It listens to
    its session."""

    def __init__(self) -> None:
        self.came: Callable[[Any], None] = lambda text: None
        self.signal: dict[str, list[float]] = {}
        self.traffic: TrafficTable | None = None
        self.to: Any = None

    def work(self, module: Module, traffic: TrafficTable) -> None:
        """Works this module from now on."""
        self.module, self.traffic, self.session = module, traffic, module.session

    def send(self, packets: Packets, way: str, number: int) -> None:
        assert self.traffic
        given = {self.traffic.data: packets.text(way, number)}
        if self.traffic.address:
            given["to"] = self.to
        self.module.do(self.traffic.send, given)

    def listen(self, seconds: float) -> None:
        self.session.quiet(seconds)

    def note(self, seen: Observation) -> None:
        traffic = self.traffic
        if traffic and isinstance(seen, Heard) and seen.name == traffic.arrives:
            for name in traffic.signal:
                if isinstance(seen.values.get(name), int | float):
                    self.signal.setdefault(name, []).append(float(seen.values[name]))
            self.came(str(seen.values.get(traffic.data, "")))


class _Side(threading.Thread):
    """The thread of one end: sends what is to be sent, listens in between."""

    def __init__(self, end: Endpoint, packets: Packets, clock: Callable[[], float]) -> None:
        super().__init__(daemon=True)
        self.end, self.packets, self.clock = end, packets, clock
        self.fault: Fault | None = None
        self._refused = 0
        self._to_send: deque[tuple[str, int, Tally]] = deque()
        self._ended = threading.Event()

    def queue(self, way: str, number: int, tally: Tally) -> None:
        self._to_send.append((way, number, tally))

    def finish(self) -> None:
        self._ended.set()
        self.join()

    def run(self) -> None:
        try:
            while not self._ended.is_set():
                if self._to_send:
                    way, number, tally = self._to_send.popleft()
                    tally.sent[number] = self.clock()
                    self._send(way, number)
                else:
                    self.end.listen(LOOKS)
        except Fault as fault:
            self.fault = fault

    def _send(self, way: str, number: int) -> None:
        """Sends a packet; one that the module does not take is lost, and several in a row are a fault."""
        try:
            self.end.send(self.packets, way, number)
            self._refused = 0
        except ModuleFault:
            self._refused += 1
            if self._refused >= MOST_REFUSED:
                raise


class TrafficTest:
    """Packets out from the first end, answers back from the second; with one end, out and back to the same. `names` are what
    the ends are called, where that is not their ports."""

    def __init__(
        self,
        ends: Sequence[Endpoint],
        order: TrafficOrder,
        names: Sequence[str] = (),
    ) -> None:
        self.order = order
        self.names = list(names) or [end.session.link.name for end in ends]
        self.ends = ends
        self.clock = ends[0].session.clock.now
        self.tallies = {OUT: Tally(), BACK: Tally()} if len(ends) > 1 else {OUT: Tally()}
        self.own = 0
        self._changed = threading.Condition()
        self.sides = [_Side(end, Packets(order.size, lines=order.lines, seed=order.seed), self.clock) for end in ends]
        for side in self.sides:
            side.end.came = partial(self._came, side)
        self._began = 0.0

    def run(self, stopping: Callable[[], bool]) -> TrafficResult:
        """Passes the traffic; the result says how it ended."""
        started, self._began = datetime.now(UTC), self.clock()
        for side in self.sides:
            side.start()
        stopped, number = False, 0
        while not (stopped := stopping()) and not any(side.fault for side in self.sides):
            now = self.clock() - self._began
            if (self.order.count and number >= self.order.count) or (
                self.order.duration and now >= self.order.duration
            ):
                break
            number += 1
            self.sides[0].queue(OUT, number, self.tallies[OUT])
            self._wait(number, stopping)
        until = self.clock() + self.order.within
        while self.clock() < until and not stopping() and not self._all_came():
            with self._changed:
                self._changed.wait(0.05)
        for side in self.sides:
            side.finish()
        result = self.result()
        result.started = started
        fault = next((side.fault for side in self.sides if side.fault), None)
        if fault or stopped:
            result.ended_by(fault or Stopped("stopped on request"), "traffic")
        else:
            result.failure = _judged(result)
            result.verdict = Verdict.FAILED if result.failure else Verdict.PASSED
        return result

    def _wait(self, number: int, stopping: Callable[[], bool]) -> None:
        """Until the next packet is due."""
        until = self.clock() + (self.order.every or self.order.within)
        last = list(self.tallies.values())[-1]
        with self._changed:
            while self.clock() < until and not stopping() and not any(side.fault for side in self.sides):
                if not self.order.every and number in last.came:
                    return
                self._changed.wait(min(0.05, max(0.001, until - self.clock())))

    def _all_came(self) -> bool:
        return all(len(tally.came) == len(self.tallies[OUT].sent) for tally in self.tallies.values())

    def _came(self, side: _Side, data: bytes | str) -> None:
        at = self.clock()
        if isinstance(data, str):
            found = [one] if (one := side.packets.line(data)) else []
        else:
            found = list(side.packets.feed(data))
        first = side is self.sides[0]
        expected = BACK if first and len(self.sides) > 1 else OUT
        for packet in found:
            tally = self.tallies[expected]
            if isinstance(packet, Damaged):
                tally.damaged += 1
            elif packet.way != expected:
                self.own += 1
            elif tally.receive(packet.number, at) and not first:
                side.queue(BACK, packet.number, self.tallies[BACK])
        with self._changed:
            self._changed.notify_all()

    def ways(self) -> list[Direction]:
        """What has come of each way so far."""
        others = self.names[1:] + self.names[:1]
        names = [f"{one} to {other}" for one, other in zip(self.names, others, strict=True)]
        return [_way(name, tally) for name, tally in zip(names, self.tallies.values(), strict=False)]

    def result(self) -> TrafficResult:
        """What has come of it so far."""
        ports = self.names
        out, last = self.tallies[OUT], list(self.tallies.values())[-1]
        came, back = dict(out.came), dict(last.came)
        sent = dict(out.sent)
        trips = [
            PacketTiming(
                number,
                round(at - self._began, 6),
                round(came[number] - at, 6) if number in came else None,
                round(back[number] - at, 6) if number in back else None,
            )
            for number, at in sent.items()
        ]
        rounds = [one.round_trip for one in trips if one.round_trip is not None]
        took = max([*came.values(), *back.values(), self._began]) - self._began
        count = sum(len(tally.came) for tally in self.tallies.values())
        return TrafficResult(
            ports=ports,
            links=[str(end.session.link.tuning) for end in self.ends],
            ways=self.ways(),
            median=percentile(rounds, 0.5),
            most=percentile(rounds, 0.95),
            rate=round(count * self.order.size / took, 1) if took else 0.0,
            size=self.order.size,
            seconds=round(self.clock() - self._began, 6),
            signal={name: _spread(end.signal) for name, end in zip(ports, self.ends, strict=True) if end.signal},
            own=self.own,
            strange=sum(side.packets.strange for side in self.sides),
            trips=trips,
        )


def _way(name: str, tally: Tally) -> Direction:
    times = tally.times()
    median, most = (round(one, 6) if (one := percentile(times, share)) is not None else None for share in (0.5, 0.95))
    return Direction(name, len(tally.sent), len(tally.came), tally.lost, tally.damaged, tally.doubled, median, most)


def _spread(values: Mapping[str, list[float]]) -> dict[str, list[float]]:
    return {name: [min(some), percentile(some, 0.5) or 0.0, max(some)] for name, some in values.items()}


def _judged(result: TrafficResult) -> Failure | None:
    """Why it did not pass, and what that points to."""
    told, hints = [], []
    for way in result.ways:
        counts = {"lost": way.lost, "damaged": way.damaged, "came again": way.doubled}
        if any(counts.values()):
            what = ", ".join(f"{count} {name}" for name, count in counts.items() if count)
            told.append(f"{way.way}: {what} of {way.sent}")
    first = result.ways[0]
    if result.own:
        told.append(f"{result.own} came back to the port that sent them")
        hints.append("A port that hears itself has a module with echo on, in command mode, or TX and RX joined.")
    if not told:
        return None
    if not first.received and not first.damaged:
        if len(result.ports) == 1:
            hints.append("Nothing came back. Are TX and RX joined, and is the rate one that the port has?")
        else:
            hints.append(
                "Nothing came through. Do both modules pass data, at these rates, and are they each other's peers?"
            )
    elif any(way.damaged for way in result.ways):
        hints.append("Damaged packets point to noise, a wrong rate on one side, or no flow control where it is needed.")
    elif any(way.lost for way in result.ways):
        hints.append("Lost packets point to a weak signal, a busy channel, or --every faster than the link.")
    status = 3 if not any(way.received or way.damaged for way in result.ways) else 1
    return Failure("traffic", "; ".join(told), next=" ".join(hints), status=status)


def prepare(ends: Sequence[Endpoint], size: int) -> None:
    """Asks each module that sends by command for what the other needs. Raises Fault."""
    for end, other in zip(ends, reversed(ends), strict=True):
        traffic = end.traffic if isinstance(end, CommandEndpoint) else None
        if not isinstance(end, CommandEndpoint) or traffic is None:
            continue
        if size > traffic.most:
            raise CallFault(
                f"{end.session.link.name}: its module sends {traffic.most} bytes at once", hint="--size less."
            )
        if traffic.address:
            if not isinstance(other, CommandEndpoint) or other is end:
                raise CallFault("this module sends to an address: name the port of the other one too")
            end.to = other.module.read(traffic.address)
