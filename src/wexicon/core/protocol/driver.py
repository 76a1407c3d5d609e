"""Drives one machine at a time on one link: the only code that reads and writes it.

The rule: the time comes from the link's clock; under the virtual clock and the real one the code is the same. What a module
sends is read at any time. A stop is heeded between two exchanges, and inside whatever takes longer than a moment. After
a link fault nothing is said until the link is renewed.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence

from msgspec import structs

from wexicon.core.faults import CannotTune, Fault, LinkFault, Stopped, Unreachable
from wexicon.core.protocol.engine import Engine
from wexicon.core.protocol.exchange import ENDED, Exchange
from wexicon.core.protocol.link import Link
from wexicon.core.protocol.masking import Redactor, Secrets
from wexicon.core.protocol.observations import Heard, Listener, Machine, Observation, Said, Signalled, Tuned
from wexicon.core.text import spoken, to_bytes, to_text
from wexicon.core.tuning import Tuning

# How long data that has already arrived may take to be read (seconds).
LONGEST_DRAIN = 2.0
# How long a wait may last before the listener may do deferred work (seconds).
IDLE = 0.25
# How long an exchange goes on after a stop was requested (seconds); most end sooner.
STOP_WITHIN = 2.0


class Driver:
    """`stopping` reports whether a stop was requested; nothing in `secrets` reaches the listener. `on_wire` and `pauses` are
    where the time went, in seconds: bytes on the wire both ways, and pauses we made; `received` counts the bytes that came.
    `watch` is shown all bytes: `>` and those sent, `<` and those received."""

    def __init__(
        self,
        link: Link,
        engine: Engine,
        listener: Listener | None = None,
        stopping: Callable[[], bool] = lambda: False,
        secrets: Secrets | None = None,
    ) -> None:
        self.link = link
        self.clock = link.clock
        self.secrets = secrets or Secrets()
        self.listener = Redactor(listener or Listener(), self.secrets)
        self.stopping = stopping
        self.on_wire = 0.0
        self.pauses = 0.0
        self.received = 0
        self.watch: Callable[[str, bytes], object] | None = None
        # Other sessions of the same work, heard while this one waits.
        self.beside: tuple[Driver, ...] = ()
        # Behind a pass-through board our side never changes.
        self.fixed: Tuning | None = None
        # The number of the module that is spoken to, if the port was named with it.
        self.bound: int | None = None
        self._engine = engine
        engine.station = link.tuning.station
        self._fault: LinkFault | None = None
        # Seconds that one character takes on the wire, as our side is tuned.
        self._per_char = link.tuning.wire_time(1)
        self._seven_bits = link.tuning.bits == 7
        self._sent_until = 0.0
        self._heard_at = float("-inf")
        self._hearing_since: float | None = None

    @property
    def heard_at(self) -> float:
        """When the last bytes came."""
        return self._heard_at

    @property
    def recent(self) -> Collection[Observation]:
        """What was reported last, without secrets."""
        self.listener.flush()
        return self.listener.recent

    # -- driving --------------------------------------------------------------------------------------------------

    def drive(self, machine: Machine) -> None:
        """Drives a machine until it is done; meanwhile the engine hears nothing. What it has of a line that has not ended was
        meant for the machine: a receiver may ask for the first block right behind its answer. Raises Stopped at once if a stop
        is requested, LinkFault if the link fails."""
        clock = self.clock
        if begun := self._engine.forget_partial():
            self._report(machine.feed(to_bytes(begun), clock.now()))
        while not machine.done:
            self.heed_stop()
            data = machine.outgoing(clock.now())
            if data:
                self._send(data, to_text(data), clock.now(), True)
            due = machine.next_time()
            soon = clock.now() + IDLE
            data = self._read(soon if due is None else min(due, soon))
            now = clock.now()
            if data:
                self._count(data, now)
                self._report(machine.feed(data, now))
            if not data or (due is not None and now >= due):
                self._report(machine.elapse(now))

    def _report(self, seen: Sequence[Observation]) -> None:
        for one in seen:
            self.listener.note(one)

    def _hear_until(self, exchange: Exchange) -> None:
        """Hears until an exchange has ended; one that takes long after a stop was requested is abandoned."""
        engine, clock = self._engine, self.clock
        stop_at: float | None = None
        while exchange.state is not ENDED:
            until = engine.next_time()
            if until is None:
                until = exchange.deadline
            soon = clock.now() + IDLE
            data = self._read(until if until < soon else soon)
            now = clock.now()
            if data:
                self._hear(data, now)
            elif now < until:
                self.listener.idle()
            # Also of one that goes on sending: an answer may have no end.
            if exchange.state is not ENDED and now < until and self.stopping():
                stop_at = now + STOP_WITHIN if stop_at is None else stop_at
                if now >= stop_at:
                    engine.abandon()
                    raise Stopped("stopped on request, before the answer came")
            if now >= until:
                self._tell(engine.elapse(now))

    def _pass(self, data: bytes, until: float | None) -> None:
        """Takes in what has just been read; `until` is when something is due."""
        now = self.clock.now()
        if data:
            self._hear(data, now)
        if until is not None and now >= until:
            self._tell(self._engine.elapse(now))

    def _read(self, until: float) -> bytes:
        """Bytes that come before the time `until`, none if none do."""
        if self._fault is not None:
            raise self._fault
        try:
            return self._read_beside(until) if self.beside else self.link.read(until)
        except LinkFault as fault:
            self._fail(fault)
            raise

    def _read_beside(self, until: float) -> bytes:
        """The same, with the other sessions heard meanwhile, and their answers ended by silence."""
        clock = self.clock
        while True:
            for other in self.beside:
                other.catch_up()
            due = [at for other in self.beside if (at := other._engine.next_time()) is not None]
            data = self.link.read(min(until, clock.next_event(), *due))
            if data or clock.now() >= until:
                return data

    def catch_up(self) -> None:
        """Reads what has arrived, up to a limit. A link that failed is reported when this session is used next."""
        if self._fault is not None:
            return
        try:
            data = self.link.read(self.clock.now())
        except LinkFault as fault:
            self._fail(fault)
            return
        self._pass(data, self._engine.next_time())

    def _hear(self, data: bytes, now: float) -> None:
        self._count(data, now)
        self._tell(self._engine.feed(data, now))
        if self._engine.due:
            due, self._engine.due = self._engine.due, b""
            self._send(due, to_text(due), self.clock.now(), True)

    def _count(self, data: bytes, now: float) -> None:
        """Keeps the times of bytes that came."""
        taken = len(data) * self._per_char
        if self._hearing_since is None:
            self._hearing_since = now - taken
        self._heard_at = now
        self.received += len(data)
        self.on_wire += taken
        if self.watch is not None:
            self.watch("<", data)

    def _tell(self, heard: Sequence[Heard]) -> None:
        """Reports what the engine heard."""
        self._report(heard)

    def send(self, data: bytes) -> None:
        """Sends bytes as they are; waits for nothing."""
        self._send(data, to_text(data), self.clock.now(), True)

    def _send(self, data: bytes, text: str, now: float, exact: bool) -> None:
        self._write(data, now)
        self.listener.note(Said(now, text, exact))

    def _write(self, data: bytes, now: float) -> None:
        """Sends bytes at the time `now`; the caller reports them."""
        if self._fault is not None:
            raise self._fault
        try:
            self.link.write(data)
        except LinkFault as fault:
            self._fail(fault)
            raise
        if self.watch is not None:
            self.watch(">", data)
        taken = len(data) * self._per_char
        self.on_wire += taken
        self._sent_until = (now if now > self._sent_until else self._sent_until) + taken

    def _write_slowly(self, data: bytes, pace: float) -> None:
        """Sends bytes with a pause after each (seconds), and takes in what comes meanwhile. A stop is not heeded in between:
        half a line would stay in the module."""
        for at in range(len(data)):
            self._write(data[at : at + 1], self.clock.now())
            until = self._sent_until + pace
            self.pauses += pace
            while self.clock.now() < until:
                due = self._engine.next_time()
                self._pass(self._read(until if due is None else min(due, until)), due)

    # -- listening ----------------------------------------------------------------------------------------------

    def drain(self) -> None:
        """Takes in what has already arrived, without waiting. Raises Unreachable if it does not end."""
        began = self.clock.now()
        while self.take_in():
            if self.clock.now() - began > LONGEST_DRAIN:
                what = f"the port has sent without a pause for {spoken(LONGEST_DRAIN)}, faster than a UART can"
                raise Unreachable(
                    what, where=self.link.name, hint="Check what is connected. Nothing more was sent to it."
                )
        now = self.clock.now()
        until = self._engine.next_time()
        if until is not None and now >= until:
            self._tell(self._engine.elapse(now))

    def take_in(self) -> bool:
        """Takes in what one reading gives, without waiting; false where nothing has arrived."""
        now = self.clock.now()
        data = self._read(now)
        if data:
            self._hear(data, now)
        return bool(data)

    def listen(self, until: float, enough: Callable[[], bool] = lambda: False) -> None:
        """Says nothing until the time `until` (or until `enough`), and takes in all that comes. A stop is heeded at once."""
        engine = self._engine
        while (now := self.clock.now()) < until and not enough():
            self.heed_stop()
            gap = engine.next_time()
            soon = min(until, now + IDLE)
            data = self._read(soon if gap is None else min(soon, gap))
            self._pass(data, gap)
            if not data:
                self.listener.idle()

    def quiet(self, duration: float, enough: Callable[[], bool] = lambda: False) -> None:
        """Says nothing for `duration` seconds (or until `enough`), counted from when our last byte is on the wire."""
        self.listen(max(self.clock.now(), self._sent_until) + duration, enough)

    def silence(self, duration: float) -> None:
        """Says nothing until `duration` seconds have passed since our last byte was on the wire."""
        self.listen(self._sent_until + duration)

    def wait_until_quiet(self, quiet: float, limit: float) -> None:
        """Takes in what comes until nothing has come for `quiet` seconds, at most for `limit` seconds."""
        end = self.clock.now() + limit
        since = self.clock.now()
        while True:
            self.listen(min(end, since + quiet), lambda since=since: self._heard_at > since)  # type: ignore[misc]
            if self._heard_at <= since or self.clock.now() >= end:
                return
            since = self._heard_at

    def heard_for(self) -> float:
        """Seconds from the first to the last byte heard since the last call; 0 if there was none."""
        began, self._hearing_since = self._hearing_since, None
        return 0.0 if began is None else self._heard_at - began

    # -- our side of the link -----------------------------------------------------------------------------------

    def tune(self, tuning: Tuning) -> None:
        """Changes our rate and frame once all that was said is on the wire; incomplete input is dropped. Raises CannotTune."""
        self.listen(self._sent_until)
        if self.bound is not None and tuning.station != self.bound:
            tuning = structs.replace(tuning, station=self.bound)
        if tuning == self.link.tuning:
            return
        if self.fixed is not None and not tuning.wired_as(self.fixed):
            what = f"our side stays at {self.fixed}: the fixture has a pass-through board"
            raise CannotTune(
                what, where=self.link.name, hint="Only its side towards the module can be changed, by hand."
            )
        self._on_link(lambda: self.link.tune(tuning))
        self._engine.station = tuning.station
        self._per_char = tuning.wire_time(1)
        self._seven_bits = tuning.bits == 7
        self._engine.forget_partial()
        self.listener.note(Tuned(self.clock.now(), tuning))

    def signal(self, *, dtr: bool | None = None, rts: bool | None = None, at_once: bool = False) -> None:
        """Drives control lines, once all that was said is on the wire, or `at_once`, even if a stop was requested. Raises
        CannotTune."""
        if not at_once:
            self.listen(self._sent_until)
        self._on_link(lambda: self.link.signal(dtr=dtr, rts=rts))
        self.listener.note(Signalled(self.clock.now(), dtr, rts))

    def lines(self) -> dict[str, bool]:
        """The levels of the lines that the other side drives: cts, dsr, dcd, ri. Raises CannotTune."""
        found: dict[str, bool] = {}
        self._on_link(lambda: found.update(self.link.lines()))
        return found

    def hold_break(self, duration: float) -> None:
        """Holds our line at break for `duration` seconds. Raises CannotTune."""
        self.listen(self._sent_until)
        self._on_link(lambda: self.link.hold_break(True))
        try:
            self.listen(self.clock.now() + duration)
        finally:
            self._on_link(lambda: self.link.hold_break(False))

    def _on_link(self, change: Callable[[], None]) -> None:
        if self._fault is not None:
            raise self._fault
        try:
            change()
        except CannotTune:
            raise
        except LinkFault as fault:
            self._fail(fault)
            raise

    def _fail(self, fault: LinkFault) -> None:
        """The link failed: every later use raises the same fault."""
        self._fault = fault
        self._engine.fail()

    def renew(self, link: Link) -> None:
        """Goes on with another link, after the first one failed or was closed."""
        self.link, self.clock, self._fault = link, link.clock, None
        self._per_char = link.tuning.wire_time(1)
        self._seven_bits = link.tuning.bits == 7
        self._engine.renew()
        self._engine.station = link.tuning.station

    def close(self) -> None:
        """Closes the link; nothing can be said afterwards."""
        self._engine.close()
        self.link.close()

    def heed_stop(self) -> None:
        """Raises Stopped if a stop was requested, and a Fault if what happens can no longer be recorded."""
        if self.stopping():
            raise Stopped("stopped on request")
        if self.listener.lost:
            raise Fault(self.listener.lost, hint="Stopped between two exchanges. Run it again to finish.")
