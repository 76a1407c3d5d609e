"""The least time that a provisioning can take: bytes on the wire, the stand-in's own delays, what operators do, and the waits
that its lexicon states (guard time, the silence that ends an answer, how long a start takes).

The rule: these are taken as intervals in virtual time and put together; whatever of the walk lies outside of them is
time that Wexicon itself lost.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import Any

from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.protocol.session import Session
from wexicon.rigs.standin import StandIn
from wexicon.rigs.uart import Uart

Intervals = list[tuple[float, float]]
# A stand-in's own background work, which no exchange waits for.
_NOBODY_WAITS = ("report", "search", "register", "keep_seeking", "forget_line")


@contextmanager
def _wrapped(owner: type, name: str, around: Callable[..., Any]) -> Iterator[None]:
    before = getattr(owner, name)
    setattr(owner, name, lambda self, *given, **named: around(before, self, *given, **named))
    try:
        yield
    finally:
        setattr(owner, name, before)


@contextmanager
def busy(lexicon: Lexicon) -> Iterator[Intervals]:
    """Gathers, while the block lasts, the intervals in which something had to be waited for."""
    found: Intervals = []
    gap = lexicon.dialect.gap if lexicon.dialect.form in ("silence", "bytes") else 0.0
    starts = 0.0 if lexicon.start.ready else lexicon.start.within

    def from_host(before: Any, uart: Uart, data: bytes) -> None:
        began = max(uart.agenda.now, uart._host_busy)
        before(uart, data)
        found.append((began, uart._host_busy))

    def send(before: Any, uart: Uart, data: bytes) -> float:
        began = max(uart.agenda.now, uart._busy)
        end: float = before(uart, data)
        found.append((began, end + (gap if data else 0.0)))
        return end

    def after(before: Any, standin: StandIn, delay: float, action: Any) -> None:
        if delay < 2 and not any(word in getattr(action, "__qualname__", "") for word in _NOBODY_WAITS):
            found.append((standin.agenda.now, standin.agenda.now + delay))
        before(standin, delay, action)

    def by_hand(before: Any, standin: StandIn, *moves: Any) -> None:
        found.append((standin.agenda.now, standin.agenda.now + max(delay for delay, _ in moves)))
        before(standin, *moves)

    def start(before: Any, standin: StandIn) -> None:
        before(standin)
        found.append((standin.agenda.now, standin.agenda.now + starts))

    off: list[float] = []

    def power(before: Any, standin: StandIn, on: bool) -> None:
        # A module is without power for as long as its silence takes to be observed.
        if on and off:
            found.append((off.pop(), standin.agenda.now))
        elif not on:
            off[:] = [standin.agenda.now]
        before(standin, on)

    def silence(before: Any, session: Session, duration: float) -> None:
        found.append((session.clock.now(), session._sent_until + duration))
        before(session, duration)

    with (
        _wrapped(Uart, "from_host", from_host),
        _wrapped(Uart, "send", send),
        _wrapped(StandIn, "after", after),
        _wrapped(StandIn, "by_hand", by_hand),
        _wrapped(StandIn, "start", start),
        _wrapped(StandIn, "power", power),
        _wrapped(Session, "silence", silence),
    ):
        yield found


def together(intervals: Intervals, began: float, ended: float) -> float:
    """The seconds that the intervals cover between two times."""
    total, reached = 0.0, began
    for start, end in sorted(intervals):
        start, end = max(start, reached), min(end, ended)
        if end > start:
            total += end - start
            reached = end
    return total
