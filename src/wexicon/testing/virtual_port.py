"""A stand-in's port in virtual time, with the names that serial ports have in Python, for drivers that are given their port.

The rule: time passes while something is read, and at no other time; a reading ends when enough has come or its `timeout` is
over.
"""

from __future__ import annotations

from typing import Self

from wexicon.core.agenda import Agenda
from wexicon.core.tuning import Tuning
from wexicon.links.virtual import VirtualClock, VirtualLink
from wexicon.rigs.uart import Uart

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
