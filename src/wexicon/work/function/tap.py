"""A tap between a host and its module: every byte passes at once in both ways, and is decoded and recorded beside that.

The rule: bytes pass before they are decoded. The thread that passed a few decodes them, so that a change of rate is followed
before the other side speaks again; of many the decoding is left to the main thread, and holds none back. What had come when the
tap was ended is passed on before the ports are closed.
"""

from __future__ import annotations

import queue
import threading
from collections import deque
from collections.abc import Callable
from pathlib import Path

from wexicon.core.faults import CannotTune, LinkFault
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.protocol.line_faults import FaultyLine, LineFault, Side
from wexicon.core.protocol.link import Link
from wexicon.core.protocol.observations import Listener, Listeners, Logged, Observation
from wexicon.core.protocol.speech import Speech
from wexicon.core.results.functions import FaultCount, TapResult
from wexicon.core.results.result import Verdict
from wexicon.core.tuning import Tuning
from wexicon.records.trace_writer import TraceWriter
from wexicon.work.function.tap_decoder import TapDecoder

# How long one way waits for bytes before it looks whether the tap was ended (seconds).
LOOKS = 0.05
# What was passed on after this long without a byte was all (seconds).
DRAINED = 0.05
# How many bytes may wait to be decoded; beyond that some are passed on unseen.
MOST_WAITING = 32 * 1024 * 1024
# Up to this many bytes are decoded where they were passed on: a fraction of a millisecond.
FEW = 256
# How often control lines are looked at (seconds).
LINES_EVERY = 0.02


class _Way(threading.Thread):
    """Passes bytes of one side on to the other, and puts what passed into a queue."""

    def __init__(self, tap: Tap, side: Side) -> None:
        super().__init__(name=f"tap from {side}", daemon=True)
        self.tap, self.side = tap, side
        self.bytes = 0
        self.fault: LinkFault | None = None

    def run(self) -> None:
        tap, link = self.tap, self.tap.links[self.side]
        clock = link.clock
        last = clock.now()
        try:
            while not (tap.ended.is_set() and clock.now() - last > DRAINED):
                wait = tap.wait_for_late(clock.now())
                data = link.read(clock.now() + min(LOOKS, wait))
                now = clock.now()
                if data:
                    last = now
                    self.bytes += len(data)
                    tap.pass_on(self.side, data, now)
                tap.send_late(now)
        except LinkFault as fault:
            self.fault = fault
            tap.ended.set()


class Tap:
    """One tap on two open links. `listener` is shown every observation; `faults` are put into the line."""

    def __init__(
        self,
        host: Link,
        module: Link,
        lexicon: Lexicon | None = None,
        faults: tuple[LineFault, ...] = (),
        listener: Listener | None = None,
        seed: int = 1,
    ) -> None:
        self.links = {Side.HOST: host, Side.MODULE: module}
        self.ended = threading.Event()
        self.decoder = TapDecoder(lexicon, module.tuning, listener or Listener(), self._retune)
        self._line = FaultyLine(faults, seed=seed)
        self._faults = faults
        self._seen: queue.SimpleQueue[tuple[float, Side | None, bytes]] = queue.SimpleQueue()
        self._waiting = self.undecoded = 0
        self._news = threading.Event()
        self._decoding = threading.Lock()
        self._failed: Exception | None = None
        # What is held back for the host, and when it is due.
        self._late: deque[tuple[float, bytes]] = deque()
        self._lock = threading.Lock()
        self._moves: dict[Side, deque[Tuning]] = {side: deque() for side in Side}
        self._levels: dict[str, bool] = {}
        self._has_lines = True

    # -- passing on -------------------------------------------------------------------------------------------------

    def pass_on(self, side: Side, data: bytes, now: float) -> None:
        """Bytes that came from a side go on, as the faults have it."""
        # Before it goes on: what the other side says to it must come behind it.
        if self._waiting < MOST_WAITING:
            self._waiting += len(data)
            self._seen.put((now, side, data))
        else:
            self.undecoded += len(data)
        if not self._faults:
            self._send(Side.MODULE if side is Side.HOST else Side.HOST, data)
        else:
            self._send_faulty(side, data, now)
        if self._waiting > FEW or not self._decoding.acquire(blocking=False):
            self._news.set()
            return
        try:
            self._decode_all()
        except Exception as fault:  # of the decoder, or of a listener: `run` raises it, and no byte is lost
            self._failed = self._failed or fault
            self.ended.set()
        finally:
            self._decoding.release()

    def _send_faulty(self, side: Side, data: bytes, now: float) -> None:
        with self._lock:
            before = dict(self._line.done)
            parts = list(self._line.feed(side, data))
            for one, done in self._line.done.items():
                if done > before[one]:
                    self._seen.put((now, None, one.told(done - before[one], side).encode()))
        for part in parts:
            with self._lock:
                # On a line nothing overtakes what was sent before.
                held = part.to is Side.HOST and (part.later or self._late)
                if held:
                    self._late.append((max(now + part.later, self._late[-1][0] if self._late else 0.0), part.data))
            if not held:
                self._send(part.to, part.data)

    def wait_for_late(self, now: float) -> float:
        """Seconds until something that was held back is due."""
        with self._lock:
            return max(0.0, self._late[0][0] - now) if self._late else LOOKS

    def send_late(self, now: float) -> None:
        """Sends what was held back and is due."""
        while self._late:
            with self._lock:
                if not self._late or self._late[0][0] > now:
                    return
                self._send(Side.HOST, self._late[0][1])
                self._late.popleft()
            self._news.set()

    def _send(self, to: Side, data: bytes) -> None:
        self.links[to].write(data)

    # -- looking on -------------------------------------------------------------------------------------------------

    def run(self, stopping: Callable[[], bool] = lambda: False, lasts: float | None = None) -> TapResult:
        """Passes on until it is stopped, or for `lasts` seconds."""
        clock = self.links[Side.MODULE].clock
        began = clock.now()
        ways = {side: _Way(self, side) for side in Side}
        for way in ways.values():
            way.start()
        looked = began
        while not self.ended.is_set():
            self._news.wait(0.01)
            self._news.clear()
            with self._decoding:
                self._decode_all()
                self.decoder.elapse(clock.now())
                self._follow()
            now = clock.now()
            if now - looked > LINES_EVERY:
                looked = now
                self._pass_lines()
            if stopping() or (lasts is not None and now - began > lasts):
                self.ended.set()
        for way in ways.values():
            way.join(timeout=5)
        self.send_late(float("inf"))
        if self._failed:
            raise self._failed
        while not self._seen.empty():
            self._decode_all()
        self.decoder.elapse(clock.now())
        self.decoder.flush()
        result = TapResult(
            verdict=Verdict.DONE,
            seconds=round(clock.now() - began, 6),
            from_host=ways[Side.HOST].bytes,
            from_module=ways[Side.MODULE].bytes,
            lines=self.decoder.lines,
            answers=self.decoder.answers,
            undecoded=self.undecoded,
            faults=[FaultCount(one.text_of(), done) for one, done in self._line.done.items()],
            known=self.decoder.state.told(clock.now()),
        )
        if fault := next((way.fault for way in ways.values() if way.fault), None):
            result.ended_by(fault, "tap")
        return result

    def _decode_all(self) -> None:
        """Decodes what waits; one thread at a time."""
        for _ in range(self._seen.qsize()):
            at, side, data = self._seen.get()
            if side is None:
                # What a fault did to the bytes before.
                self.note(Logged(at, data.decode()))
                continue
            self._waiting -= len(data)
            self.decoder.feed(side, data, at)
            self._follow()

    def _follow(self) -> None:
        """Our sides go where host and module go; towards the host once it has what was held back for it."""
        for side, moves in self._moves.items():
            while moves and not (side is Side.HOST and self._late):
                self._tune(side, moves.popleft())

    def _retune(self, tuning: Tuning) -> None:
        for moves in self._moves.values():
            moves.append(tuning)

    def _tune(self, side: Side, tuning: Tuning) -> None:
        link = self.links[side]
        try:
            link.tune(tuning)
        except CannotTune as fault:
            self.note(Logged(link.clock.now(), f"our side towards the {side} cannot follow: {fault.what}"))

    def _pass_lines(self) -> None:
        """What the host drives, the module sees: its RTS comes as our CTS, its DTR as our DSR."""
        if not self._has_lines:
            return
        try:
            levels = self.links[Side.HOST].lines()
            now = {"rts": levels["cts"], "dtr": levels["dsr"]}
            if now != self._levels and self._levels:
                self.links[Side.MODULE].signal(dtr=now["dtr"], rts=now["rts"])
            self._levels = now
        except (LinkFault, KeyError):
            self._has_lines = False

    def note(self, seen: Observation) -> None:
        """Reports something."""
        self.decoder.listener.note(seen)


def tap_ports(
    host: Link,
    module: Link,
    lexicon: Lexicon | None,
    path: Path,
    faults: tuple[LineFault, ...] = (),
    listener: Listener | None = None,
    *,
    seed: int = 1,
    stopping: Callable[[], bool] = lambda: False,
    lasts: float | None = None,
    force: bool = False,
) -> TapResult:
    """A tap on two open links, traced: the host's lines as said, the module's as heard. Raises CallFault if the trace cannot be
    created."""
    speech = lexicon.speech if lexicon else None
    writer = TraceWriter(
        path,
        module.clock,
        link=f"{host.name} and {module.name}",
        tuning=module.tuning,
        speech=speech or Speech(),
        force=force,
    )
    try:
        both = Listeners(writer, listener) if listener else writer
        result = Tap(host, module, lexicon, faults, both, seed).run(stopping, lasts)
    finally:
        writer.close()
    result.trace = str(path)
    return result
