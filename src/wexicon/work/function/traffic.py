"""The traffic test: numbered packets from one port to the other, and an answer to each on the way back.

The rule: what is counted was seen on a port. A packet that is not received in time is lost, until it is received after all. A
module whose lexicon says how it sends by command does so; all others pass everything through. On ports each end has a thread
of its own, so that nothing that arrives waits for what is sent; in virtual time they take turns.
"""

from __future__ import annotations

import threading
from collections.abc import Callable, Mapping, Sequence
from contextlib import ExitStack
from datetime import UTC, datetime

import msgspec

from wexicon.core.faults import CallFault, Stopped
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.protocol.transfers import Damaged, Packets, Tally, percentile
from wexicon.core.results.functions import Direction, PacketTiming, TrafficResult
from wexicon.core.results.result import Failure, Measurement, Verdict
from wexicon.core.text import counted, spoken, visible
from wexicon.core.tuning import Tuning
from wexicon.work.contact.sessions import Opening, Setup, open_session
from wexicon.work.contact.symptoms import Symptoms
from wexicon.work.function.dialogues import refusals, told
from wexicon.work.function.endpoints import LOOKS, CommandEndpoint, DataEndpoint, Endpoint, Outbox, TransparentEndpoint
from wexicon.work.module.module import Module
from wexicon.work.module.opening import module_on_port

OUT, BACK = "a", "b"


class TrafficOrder(msgspec.Struct, frozen=True):
    """The number of packets (0: as many as fit the time), the time (seconds, 0: until all are sent), their size (bytes), lines
    or binary; the send interval (seconds, 0: when the last was answered), and the answer timeout (seconds)."""

    count: int = 20
    duration: float = 0.0
    size: int = 32
    lines: bool = True
    every: float = 0.0
    within: float = 2.0
    seed: int = 1


class _Side:
    """One endpoint at work. `ended_by` is the exception that ended it, whatever it is."""

    def __init__(self, endpoint: Endpoint, packets: Packets, clock: Callable[[], float]) -> None:
        self.endpoint, self.packets = endpoint, packets
        self.outbox = Outbox(clock)
        self.arrived: Callable[[bytes | str], None] = lambda data: None
        self.ended_by: BaseException | None = None
        self._thread: threading.Thread | None = None

    def start(self) -> None:
        """Works in a thread of its own, until `finish`."""
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()

    def finish(self) -> None:
        self.outbox.close()
        if self._thread:
            self._thread.join()

    def _run(self) -> None:
        while not self.outbox.closed and not self.ended_by:
            self.turn(LOOKS)

    def turn(self, looks: float) -> None:
        """One turn of `looks` seconds."""
        try:
            self.endpoint.turn(self.outbox, self.packets, lambda data: self.arrived(data), looks)
        except BaseException as fault:  # reported by the test that waits for this side
            self.ended_by = fault


class TrafficTest:
    """Packets out from the first endpoint, answers back from the second; with one endpoint, out and back to the same. `names`
    are how the ends are called, if not by their ports."""

    def __init__(self, ends: Sequence[Endpoint], order: TrafficOrder, names: Sequence[str] = ()) -> None:
        self.order = order
        self._in_turns = ends[0].session.clock.virtual
        # Ends that take commands hear while another one sends, so that what arrives has its time.
        takers = [end.session for end in ends if isinstance(end, CommandEndpoint)] if self._in_turns else []
        for one in takers:
            one.beside = tuple(other for other in takers if other is not one)
        self.names = list(names) or [end.session.link.name for end in ends]
        self.ends = ends
        self.clock = ends[0].session.clock.now
        self.tallies = {OUT: Tally(), BACK: Tally()} if len(ends) > 1 else {OUT: Tally()}
        self.own = 0
        self._changed = threading.Condition()
        self._news = False
        self.sides = [_Side(end, Packets(order.size, lines=order.lines, seed=order.seed), self.clock) for end in ends]
        for side in self.sides:
            side.arrived = lambda data, side=side: self._arrived(side, data)  # type: ignore[misc]
        self._began = 0.0

    def run(self, stopping: Callable[[], bool]) -> TrafficResult:
        """Runs the test; the result says how it ended."""
        started, self._began = datetime.now(UTC), self.clock()
        for side in self.sides if not self._in_turns else []:
            side.start()
        stopped, number = False, 0
        while not (stopped := stopping()) and not self._broken() and not self._all_sent(number):
            number += 1
            self.sides[0].outbox.put(OUT, number, self.tallies[OUT])
            self._wait(number, stopping)
        until = self.clock() + self.order.within
        while self.clock() < until and not stopping() and not self._broken() and not self._all_received():
            self._pause(0.05)
        for side in self.sides:
            side.finish()
        result = self.result()
        result.started = started
        fault = self._broken()
        if fault or stopped:
            result.ended_by(fault or Stopped("stopped on request"), "traffic")
        else:
            result.complete = True
            result.failure = _judged(result, self.ends, self.order.within)
            result.verdict = Verdict.FAILED if result.failure else Verdict.PASSED
        return result

    def _broken(self) -> BaseException | None:
        """What ended a side before its time."""
        return next((side.ended_by for side in self.sides if side.ended_by), None)

    def _all_sent(self, number: int) -> bool:
        order, passed = self.order, self.clock() - self._began
        return bool((order.count and number >= order.count) or (order.duration and passed >= order.duration))

    def _wait(self, number: int, stopping: Callable[[], bool]) -> None:
        """Waits until the next packet is due."""
        until = self.clock() + (self.order.every or self.order.within)
        last = list(self.tallies.values())[-1]
        while self.clock() < until and not stopping() and not self._broken():
            if not self.order.every and number in last.came:
                return
            self._pause(min(0.05, max(0.001, until - self.clock())))

    def _pause(self, seconds: float) -> None:
        """Lets the sides work, until something arrives or the time is over."""
        if self._in_turns:
            self._news = False
            for side in self.sides:
                clock = side.endpoint.session.clock
                at_once = self._news or any(one.outbox.waits for one in self.sides)
                side.turn(0.0 if at_once else max(0.0, min(seconds, clock.next_event() - clock.now())))
            return
        with self._changed:
            if not self._news:
                self._changed.wait(seconds)
            self._news = False

    def _all_received(self) -> bool:
        return all(len(tally.came) == len(self.tallies[OUT].sent) for tally in self.tallies.values())

    def _arrived(self, side: _Side, data: bytes | str) -> None:
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
                side.outbox.put(BACK, packet.number, self.tallies[BACK])
        with self._changed:
            self._news = True
            self._changed.notify_all()

    def ways(self) -> list[Direction]:
        """The counts of each direction so far."""
        others = self.names[1:] + self.names[:1]
        names = [f"{one} to {other}" for one, other in zip(self.names, others, strict=True)]
        return [_direction(name, tally) for name, tally in zip(names, self.tallies.values(), strict=False)]

    def result(self) -> TrafficResult:
        """The counts and times so far."""
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
        ways, median, most = self.ways(), percentile(rounds, 0.5), percentile(rounds, 0.95)
        return TrafficResult(
            ports=ports,
            links=[str(end.session.link.tuning) for end in self.ends],
            ways=ways,
            measurements=_measurements(ways, median, most),
            median=median,
            most=most,
            rate=round(count * self.order.size / took, 1) if took else 0.0,
            size=self.order.size,
            seconds=round(self.clock() - self._began, 6),
            exchanges=sum(end.session.exchanges for end in self.ends),
            signal={name: _spread(end.signal) for name, end in zip(ports, self.ends, strict=True) if end.signal},
            own=self.own,
            instead={
                name: lines
                for name, end in zip(ports, self.ends, strict=True)
                if not isinstance(end, CommandEndpoint) and (lines := told(end.session, end.lexicon))
            },
            strange=sum(side.packets.strange for side in self.sides),
            trips=trips,
        )


def _direction(name: str, tally: Tally) -> Direction:
    times = tally.times()
    median, most = (round(one, 6) if (one := percentile(times, share)) is not None else None for share in (0.5, 0.95))
    return Direction(name, len(tally.sent), len(tally.came), tally.lost, tally.damaged, tally.duplicates, median, most)


def _measurements(ways: Sequence[Direction], median: float | None, most: float | None) -> list[Measurement]:
    """Loss of each direction, and the round trip; every packet must be received, intact and once."""
    made = []
    for way in ways:
        if way.sent:
            made.append(Measurement.of(f"lost, {way.way}", round(100 * way.lost / way.sent, 3), "%", high=0))
            made.append(Measurement.of(f"damaged, {way.way}", way.damaged, high=0))
            made.append(Measurement.of(f"duplicate, {way.way}", way.duplicates, high=0))
    for name, value in (("round trip, median", median), ("round trip, 95 %", most)):
        if value is not None:
            made.append(Measurement.of(name, round(value, 6), "s"))
    return made


def _spread(values: Mapping[str, list[float]]) -> dict[str, list[float]]:
    return {name: [min(some), percentile(some, 0.5) or 0.0, max(some)] for name, some in values.items()}


def too_slow(round_trip: float | None, within: float) -> str:
    """What to do if packets were waited for less long than they take; "" if they were not."""
    if round_trip is None or round_trip <= within:
        return ""
    return (
        f"A round trip takes up to {spoken(round_trip)}, and --within is {spoken(within)}: late packets can count as lost. "
        "Use a longer --within."
    )


def _judged(result: TrafficResult, ends: Sequence[Endpoint], within: float) -> Failure | None:
    """Why it did not pass, and the likely cause."""
    wrong, hints = [], []
    for way in result.ways:
        counts = {"lost": way.lost, "damaged": way.damaged, "duplicate": way.duplicates}
        if any(counts.values()):
            what = ", ".join(f"{count} {name}" for name, count in counts.items() if count)
            wrong.append(f"{way.way}: {what} of {way.sent}")
    first = result.ways[0]
    if result.own:
        wrong.append(f"{result.own} came back to the port that sent them")
        hints.append("A port that hears itself has a module with echo on, in command mode, or TX and RX joined.")
    for port, end in zip(result.ports, ends, strict=True):
        if end.refused:
            wrong.append(f"{port}: {counted(len(end.refused), 'packet')} refused, last: {end.refused[-1]}")
        count, last = (0, "") if isinstance(end, CommandEndpoint) else refusals(end.session)
        if count:
            wrong.append(f"{port}: the module answered {counted(count, 'packet')} with “{visible(last)}”")
            hints.append("It takes the packets for commands: it is in command mode, not in data mode.")
    if not wrong:
        return None
    causes = [cause for one in ends if (cause := Symptoms(one.session, None).cause())]
    if causes and causes[0].kind in ("garbage", "restarting", "prompt"):
        hints.append(causes[0].sentence)
    elif hints:
        pass
    elif not first.received and not first.damaged:
        if len(result.ports) == 1:
            hints.append("Nothing came back. Are TX and RX joined, and is the rate one that the port has?")
        else:
            hints.append(
                "Nothing came through. Do both modules pass data, at these rates, and are they each other's peers?"
            )
    elif any(way.damaged for way in result.ways):
        hints.append("Damaged packets point to noise, a wrong rate on one side, or no flow control where it is needed.")
    elif any(way.lost for way in result.ways) and (slow := too_slow(result.most, within)):
        hints.append(slow)
    elif any(way.lost for way in result.ways):
        hints.append("Lost packets point to a weak signal, a busy channel, or --every faster than the link.")
    status = 3 if not any(way.received or way.damaged for way in result.ways) else 1
    return Failure("traffic", "; ".join(wrong), next=" ".join(hints), status=status)


def prepare(ends: Sequence[Endpoint], size: int) -> None:
    """Before each test: reads from each module that sends by command what the other needs. Raises Fault."""
    for end, other in zip(ends, reversed(ends), strict=True):
        end.signal.clear()
        end.refused.clear()
        traffic = end.traffic if isinstance(end, CommandEndpoint) else None
        if not isinstance(end, CommandEndpoint) or traffic is None:
            continue
        if size > traffic.most:
            what = f"{end.session.link.name}: its module sends at most {traffic.most} bytes at once"
            raise CallFault(what, hint="Use a smaller --size.")
        if traffic.address:
            if not isinstance(other, CommandEndpoint) or other is end:
                raise CallFault("this module sends to an address: give the port of the other one too")
            end.to = other.module.read(traffic.address)


def endpoint_on(
    stack: ExitStack,
    port: str,
    lexicon: Lexicon | None,
    order: TrafficOrder,
    setup: Setup,
    traces: list[str],
    *,
    transparent: bool = False,
    swept: bool = False,
) -> Endpoint:
    """One end, ready to send, open until the stack ends; its trace file is added to `traces`. One that is `swept` is in command
    mode. Raises Fault."""
    table = lexicon.traffic if lexicon and not transparent else None
    if table and not order.lines:
        raise CallFault(f"{port}: its module sends text by command", hint="Remove --bytes.")
    links = setup.links(lexicon, port)
    opening = Opening(title="traffic")
    if lexicon is None or (table is None and not swept):
        opening.tuning = next(iter(links), lexicon.factory if lexicon else Tuning())
        session, trace = stack.enter_context(open_session(port, None, setup, opening))
        traces += [trace] if trace else []
        return TransparentEndpoint(session, lexicon)
    end = CommandEndpoint()
    module = stack.enter_context(module_on_port(port, lexicon, setup.heard_by(end), opening))
    traces += [module.trace] if module.trace else []
    return ready(end, module)


def ready(end: CommandEndpoint, module: Module) -> CommandEndpoint | DataEndpoint:
    """The end of a module in command mode, which `end` listens to. Raises Fault."""
    module.attention.gain([*module.likely, module.lexicon.factory])
    module.identify()
    if module.lexicon.traffic is None:
        return DataEndpoint(module)
    end.use(module, module.lexicon.traffic)
    return end
