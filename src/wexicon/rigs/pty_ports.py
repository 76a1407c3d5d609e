"""Stand-ins on pseudo-terminals.

The rule: the rate that the host has is read from the terminal's own settings; Linux keeps no frame for one, so there the frame
is taken to be right.
"""

from __future__ import annotations

import contextlib
import os

import msgspec

from wexicon.rigs.uart import Uart
from wexicon.system import open_terminal, terminal_rate


class PtyPort:
    """One stand-in on a pseudo-terminal."""

    def __init__(self, uart: Uart) -> None:
        self.uart = uart
        self.master, self.slave, self.name = open_terminal()
        self.connect(uart)

    def connect(self, uart: Uart) -> None:
        """Another module takes the place on this port."""
        uart.host = self.uart.host
        self.uart = uart
        uart.refresh = self.refresh
        uart.to_host = self.to_host

    def refresh(self) -> None:
        """Our side's rate as the terminal has it now."""
        rate = terminal_rate(self.slave)
        if (rate and rate != self.uart.host.rate) or self.uart.host.frame != self.uart.tuning.frame:
            self.uart.host = msgspec.structs.replace(self.uart.tuning, rate=rate or self.uart.host.rate)

    def readable(self) -> None:
        with contextlib.suppress(BlockingIOError, OSError):
            if data := os.read(self.master, 65_536):
                self.refresh()
                self.uart.from_host(data)

    def to_host(self, data: bytes) -> None:
        # A host that does not read loses bytes, as with any UART.
        with contextlib.suppress(BlockingIOError, OSError):
            os.write(self.master, data)

    def close(self) -> None:
        os.close(self.master)
        os.close(self.slave)
