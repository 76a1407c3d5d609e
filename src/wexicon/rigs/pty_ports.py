"""Stand-ins on pseudo-terminals.

The rule: the rate that the host has is read from the terminal's own settings; Linux keeps no frame for one, so there the frame
is taken to be right.
"""

from __future__ import annotations

import contextlib
import os
import termios
import tty

import msgspec

from wexicon.rigs.uart import Uart

# The rates that a terminal has a code for, by code.
BAUD = {getattr(termios, name): int(name[1:]) for name in dir(termios) if name[0] == "B" and name[1:].isdigit()}


class PtyPort:
    """One stand-in on a pseudo-terminal."""

    def __init__(self, uart: Uart) -> None:
        self.uart = uart
        self.master, self.slave = os.openpty()
        tty.setraw(self.slave)
        os.set_blocking(self.master, False)
        self.name = os.ttyname(self.slave)
        self.connect(uart)

    def connect(self, uart: Uart) -> None:
        """Another module takes the place on this port."""
        uart.host = self.uart.host
        self.uart = uart
        uart.refresh = self.refresh
        uart.to_host = self.to_host

    def refresh(self) -> None:
        """Our side's rate as the terminal has it now."""
        code = termios.tcgetattr(self.slave)[5]
        rate = BAUD.get(code, 0)
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
