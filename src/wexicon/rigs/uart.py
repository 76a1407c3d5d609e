"""A stand-in's serial side and the wire to the host: bytes take their time, and are heard as the receiver's UART would.

The rule: nothing crosses the wire but through `from_host` and `send`, each byte at its place in time, and each burst
as the receiving side's rate and frame make of it. What is on the wire when the power goes is lost.
"""

from __future__ import annotations

import random
from collections.abc import Callable
from typing import Protocol

import msgspec

from wexicon.core.agenda import Agenda
from wexicon.core.tuning import Tuning

# Bytes that leave together, as from the buffer of a common UART.
BURST = 32
# How long a module that was woken takes until it listens (seconds).
WAKES = 0.05
# What may be on its way from the host at once (bytes).
LARGEST_BUFFER = 1_048_576


class WireFaults(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """What may go wrong on the wire or in the module, all off. `noise` and `lost` are shares of bytes, both ways;
    `late` seconds added to each answer; `restarts` the seconds after which it starts again by itself, over and over, as a
    weak supply has it; `chatter` a line that comes between each command and its answer; `cut_after` the
    bytes from the host after which the power fails once; `fed`: without power it goes on, fed through its data lines; `sleeps`:
    seconds without a byte after which it sleeps, and the bytes that wake it are lost."""

    noise: float = 0.0
    lost: float = 0.0
    late: float = 0.0
    restarts: float = 0.0
    chatter: str = ""
    cut_after: int = 0
    fed: bool = False
    sleeps: float = 0.0
    seed: int = 1


class Hears(Protocol):
    """The module behind the UART."""

    def heard(self, data: bytes, began: float) -> None:
        """Bytes have come in whole; the first began at the time `began`."""

    def lost_power(self) -> None:
        """The power failed."""

    def lines_changed(self) -> None:
        """The host drives DTR or RTS otherwise than before."""

    def break_changed(self) -> None:
        """The host holds its line at break, or lets it go."""


class Uart:
    """One end is the module's (`tuning`), the other the host's (`host`), joined by `to_host`."""

    def __init__(self, agenda: Agenda, module: Hears, tuning: Tuning, faults: WireFaults | None = None) -> None:
        self.agenda = agenda
        self.module = module
        self.tuning = tuning
        self.host = tuning
        self.faults = faults or WireFaults()
        self.dtr = self.rts = self.held_at_break = False
        # A pass-through board between host and module: its side towards the host, and its side towards the module.
        self.near: Tuning | None = None
        self.far = tuning
        self.to_host: Callable[[bytes], None] = lambda data: None
        # Is told of all bytes that a side sends, as it sends them: True for the host's.
        self.overheard: Callable[[bool, bytes], None] = lambda from_host, data: None
        # Where the host's side can be retuned without a word to us (a terminal), this looks.
        self.refresh: Callable[[], None] = lambda: None
        self.powered = False
        # The lines that the module drives; `moved` is called when one changes.
        self.outputs = {"cts": True, "dsr": True, "dcd": False, "ri": False}
        self.moved: Callable[[], None] = lambda: None
        self._chance = random.Random(self.faults.seed)
        self._host_busy = 0.0
        self._on_their_way = 0
        self._busy = 0.0
        self._generation = 0
        self._count = 0
        self._awake_until = self._listens_from = 0.0

    def power(self, on: bool) -> None:
        """Switches the UART; bytes on the wire are lost."""
        self.powered = on
        self._awake_until = self._listens_from = self.agenda.now
        self._awake_until += self.faults.sleeps
        self._generation += 1
        self._busy = self.agenda.now

    # -- host to module -----------------------------------------------------------------------------------------

    def from_host(self, data: bytes) -> None:
        """The host sends bytes now, behind whatever it is still sending; beyond a large buffer they are lost."""
        data = data[: max(0, LARGEST_BUFFER - self._on_their_way)]
        self._on_their_way += len(data)
        self.overheard(True, data)
        began = max(self.agenda.now, self._host_busy)
        self._host_busy = began + self.host.wire_time(len(data))
        sent = self.host
        cut = self.faults.cut_after
        if cut and self._count < cut <= self._count + len(data):
            keep = cut - self._count
            self.agenda.at(began + sent.wire_time(keep), self.module.lost_power)
        self._count += len(data)
        generation = self._generation
        self.agenda.at(self._host_busy, lambda: self._arrive(data, sent, began, generation))

    def _arrive(self, data: bytes, sent: Tuning, began: float, generation: int) -> None:
        self._on_their_way -= len(data)
        if not self.powered or generation != self._generation or (self.faults.sleeps and self._asleep()):
            return
        if self.near is not None:
            data, sent = self._as_heard(data, sent, self.near), self.far
        data = self._spoil(self._as_heard(data, sent, self.tuning))
        if data and self.faults.chatter:
            self.send(f"\r\n{self.faults.chatter}\r\n".encode())
        if data:
            self.module.heard(data, began)

    def _asleep(self) -> bool:
        """Whether bytes that come now are lost on a module that sleeps, or is just waking up."""
        now = self.agenda.now
        if now > self._awake_until:
            self._listens_from = now + WAKES
        self._awake_until = now + self.faults.sleeps
        return now < self._listens_from

    def driven(self) -> dict[str, bool]:
        """The levels of the lines that the module drives."""
        return dict(self.outputs)

    def drive(self, line: str, on: bool) -> None:
        """The module drives one of its lines."""
        if self.outputs[line] != on:
            self.outputs[line] = on
            self.moved()

    def from_host_signals(self, *, dtr: bool | None = None, rts: bool | None = None) -> None:
        """The host drives its control lines."""
        before = (self.dtr, self.rts)
        self.dtr = self.dtr if dtr is None else dtr
        self.rts = self.rts if rts is None else rts
        if before != (self.dtr, self.rts):
            self.module.lines_changed()

    def from_host_break(self, on: bool) -> None:
        """The host holds its line at break, or lets it go."""
        self.held_at_break = on
        self.module.break_changed()

    # -- module to host -----------------------------------------------------------------------------------------

    def send(self, data: bytes) -> float:
        """The module sends bytes now, behind whatever it is still sending; gives the time at which they are sent."""
        if not self.powered:
            return self.agenda.now
        at = max(self.agenda.now, self._busy)
        tuning, generation = self.tuning, self._generation
        for start in range(0, len(data), BURST):
            burst = data[start : start + BURST]
            at += tuning.wire_time(len(burst))
            self.agenda.at(at, lambda burst=burst: self._depart(burst, tuning, generation))  # type: ignore[misc]
        self._busy = at
        return at

    def _depart(self, data: bytes, tuning: Tuning, generation: int) -> None:
        if generation == self._generation:
            self.refresh()
            self.overheard(False, data)
            if self.near is not None:
                data, tuning = self._as_heard(data, tuning, self.far), self.near
            data = self._spoil(self._as_heard(data, tuning, self.host))
            if data:
                self.to_host(data)

    @staticmethod
    def _as_heard(data: bytes, sent: Tuning, ours: Tuning) -> bytes:
        if sent == ours:
            return data
        from wexicon.core.standards.waveform import heard_at

        return heard_at(data, sent, ours)

    def _spoil(self, data: bytes) -> bytes:
        faults = self.faults
        if not faults.noise and not faults.lost:
            return data
        chance = self._chance.random
        kept = bytearray()
        for byte in data:
            if faults.lost and chance() < faults.lost:
                continue
            if faults.noise and chance() < faults.noise:
                byte ^= self._chance.randrange(1, 256)
            kept.append(byte)
        return bytes(kept)
