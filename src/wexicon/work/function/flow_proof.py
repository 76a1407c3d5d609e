"""Does flow control really hold? Packets are sent as fast as the port takes them, to a reader that does not read.

The rule: the sender must be held back, and all must arrive once the reader reads. A sender that was never held back shows
nothing: the buffers took all.
"""

from __future__ import annotations

import threading
from collections.abc import Callable
from contextlib import suppress

import msgspec

from wexicon.core.faults import LinkFault, Skipped, Stopped
from wexicon.core.protocol.session import Session
from wexicon.core.protocol.transfers import Damaged, Packets, Tally
from wexicon.core.results.functions import FlowResult
from wexicon.core.results.result import Failure, Verdict
from wexicon.core.text import counted

# A write that takes this much longer than its bytes on the wire was held back (seconds).
HELD = 0.25
# How long the reader reads nothing between two reads, after the first hold (seconds).
SLOW = 0.1
# How long nothing may arrive before the rest counts as lost (seconds).
QUIET = 2.0
WAY = "a"


class FlowOrder(msgspec.Struct, frozen=True):
    """How many bytes are sent in packets of `size` bytes: more than all buffers on the way take together."""

    volume: int = 262_144
    size: int = 240
    seed: int = 1

    @property
    def count(self) -> int:
        """The number of packets."""
        return max(1, self.volume // self.size)


class _Sender(threading.Thread):
    """Writes all packets. `holds` are the writes that were held back; `since` is when the one began that is under way."""

    def __init__(self, session: Session, order: FlowOrder, tally: Tally) -> None:
        super().__init__(daemon=True)
        self.link, self.clock, self.order, self.tally = session.link, session.clock.now, order, tally
        self.holds: list[float] = []
        self.since: float | None = None
        self.failed: BaseException | None = None
        self.given_up = False

    @property
    def held(self) -> bool:
        """Whether a write is held back now."""
        since = self.since
        return since is not None and self.clock() - since > HELD

    def run(self) -> None:
        packets = Packets(self.order.size, lines=True, seed=self.order.seed)
        on_wire = self.link.tuning.wire_time(self.order.size)
        try:
            for number in range(1, self.order.count + 1):
                if self.given_up:
                    return
                began = self.since = self.clock()
                self.link.write(packets.made(WAY, number))
                self.since = None
                self.tally.sent[number] = self.clock()
                if (took := self.clock() - began - on_wire) > HELD and not self.given_up:
                    self.holds.append(round(took, 3))
        except BaseException as fault:  # told by the thread that waits for this one
            self.failed = fault
        finally:
            self.since = None


def prove_flow(a: Session, b: Session, order: FlowOrder, flow: str, stopping: Callable[[], bool]) -> FlowResult:
    """Sends from one port to the other, or over one that is looped back; the link of the first holds flow control of the kind
    `flow`. Faults end in the result."""
    tally, clock = Tally(), b.clock.now
    sender = _Sender(a, order, tally)
    result = FlowResult(flow=flow, size=order.size, links=[str(a.link.tuning), str(b.link.tuning)])
    began = clock()
    sender.start()
    try:
        # Nothing is read until the sender is held back, or has sent all.
        while sender.is_alive() and not sender.held and not stopping():
            sender.join(0.05)
        _read_slowly(b, order, tally, sender, stopping)
        stuck = sender.is_alive()
        if stopping():
            raise Stopped("stopped on request")
    except (Exception, KeyboardInterrupt) as fault:
        result.ended_by(fault, "flow control")
        stuck = False
    finally:
        _release(a, sender)
    result.sent, result.received, result.lost = len(tally.sent), len(tally.came), tally.lost
    result.damaged, result.holds, result.seconds = tally.damaged, list(sender.holds), round(clock() - began, 6)
    if result.failure is None:
        _judge(result, sender.failed, stuck)
    told = f"flow control {flow}: {result.sent} packets sent, {result.received} received, held back {result.held} s"
    a.log(told)
    return result


def _read_slowly(b: Session, order: FlowOrder, tally: Tally, sender: _Sender, stopping: Callable[[], bool]) -> None:
    """Reads what has arrived, and pauses; to the end of what arrives."""
    packets, clock = Packets(order.size, lines=True, seed=order.seed), b.clock.now
    last = clock()
    while clock() - last < QUIET and not stopping():
        if data := b.link.read(clock() + SLOW):
            last = clock()
            for packet in packets.feed(data):
                if isinstance(packet, Damaged):
                    tally.damaged += 1
                else:
                    # The last one may not be counted as sent yet.
                    tally.sent.setdefault(packet.number, clock())
                    tally.receive(packet.number, clock())
            if sender.is_alive():
                sender.join(SLOW)
        elif not sender.is_alive() and len(tally.came) >= order.count:
            return


def _release(a: Session, sender: _Sender) -> None:
    """Ends a sender that is still held back: the port is given up if nothing else helps."""
    sender.given_up = True
    if sender.is_alive() and (control := getattr(a.link, "control_flow", None)):
        with suppress(LinkFault):
            control("none")
        sender.join(5)
    if sender.is_alive():
        a.close()


def _judge(result: FlowResult, failed: BaseException | None, stuck: bool) -> None:
    """What it shows."""
    if failed:
        result.ended_by(failed, "flow control")
        return
    what = next_ = ""
    if result.lost or result.damaged:
        gone = ", ".join(
            f"{count} {name}" for count, name in ((result.lost, "lost"), (result.damaged, "damaged")) if count
        )
        what = f"it does not hold: {gone} of {counted(result.sent, 'packet')}"
        next_ = "Is it switched on in the module, and are its lines wired: RTS to CTS, both ways?"
        if result.holds:
            next_ = "The sender was held back, but too late: the buffer between is smaller than what is on its way."
    elif stuck:
        what = "the sender is held back, though all that was sent has been read"
        next_ = "The other side does not let it go on: CTS is not driven, or an XON was lost."
    if what:
        result.verdict, result.failure = Verdict.FAILED, Failure("flow control", what, next=next_)
    elif not result.holds:
        fault = Skipped(f"the sender was never held back: the buffers took all {result.sent * result.size} bytes")
        fault.hint = "Send more: --count."
        result.ended_by(fault, "flow control")
    else:
        result.verdict = Verdict.PASSED
