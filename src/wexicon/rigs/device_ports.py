"""Stand-ins on serial devices of this machine, for a microcontroller that is wired to one.

The rule: the device has the rate and frame of the stand-in at all times; what comes at another rate is garbage, as it is to a
module. Control lines cross over, as between two devices: the host's RTS is seen as CTS, its DTR as DSR.
"""

from __future__ import annotations

import contextlib
import os
import socket
from collections.abc import Callable, Iterator

import serial

from wexicon.core.faults import LinkFault
from wexicon.core.tuning import Tuning
from wexicon.rigs.uart import Uart

# How often the host's control lines are looked at (seconds).
LOOKS = 0.02


class DevicePort:
    """One stand-in on a serial device. `report` is told if the device is lost. Raises LinkFault."""

    def __init__(
        self,
        uart: Uart,
        device: str,
        register: Callable[[socket.socket | int, Callable[[], None] | None], None],
        report: Callable[[str], None],
    ) -> None:
        self.uart, self.name = uart, device
        self._register, self._report = register, report
        try:
            self._port = serial.Serial(device, timeout=0, exclusive=True)
        except (serial.SerialException, OSError, ValueError) as fault:
            raise LinkFault(f"cannot be opened for a stand-in: {fault}", where=device) from None
        self._file = self._port.fileno()
        self._tuned: Tuning | None = None
        self.lines = True
        self.connect(uart)
        register(self._file, self.readable)
        self._look()

    def connect(self, uart: Uart) -> None:
        """Another module takes the place on this device."""
        self.uart = uart
        uart.refresh, uart.to_host, uart.moved = self.settle, self.to_host, self._drive
        self.settle()
        self._drive()

    def settle(self) -> None:
        """The device takes the rate and frame of the stand-in; what is still to be sent is sent before."""
        tuning = self.uart.tuning
        self.uart.host = tuning
        if tuning == self._tuned:
            return
        self._tuned = tuning
        with self._reported():
            self._port.flush()
            self._port.apply_settings(
                {
                    **self._port.get_settings(),
                    "baudrate": tuning.rate,
                    "bytesize": tuning.bits,
                    "parity": tuning.parity,
                    "stopbits": tuning.stop,
                }
            )

    def readable(self) -> None:
        """Bytes have come, or the device is gone."""
        try:
            data = os.read(self._file, 65_536)
        except BlockingIOError:
            return
        except OSError:
            data = b""
        if not data:
            self._register(self._file, None)
            self._report(f"{self.name} is gone")
            return
        self.settle()
        self.uart.from_host(data)

    def to_host(self, data: bytes) -> None:
        """What the stand-in sends."""
        with contextlib.suppress(BlockingIOError), self._reported():
            os.write(self._file, data)

    def _drive(self) -> None:
        """The lines that the module drives, as far as the device has them."""
        driven = self.uart.driven()
        with contextlib.suppress(OSError):
            self._port.rts, self._port.dtr = driven["cts"], driven["dsr"]

    def _look(self) -> None:
        """The lines that the host drives; a device without lines is asked once."""
        try:
            self.uart.from_host_signals(dtr=self._port.dsr, rts=self._port.cts)
        except OSError:
            self.lines = False
            return
        self.uart.agenda.after(LOOKS, self._look)

    @contextlib.contextmanager
    def _reported(self) -> Iterator[None]:
        """What goes wrong on the device is reported; one that takes no more bytes now is no fault."""
        try:
            yield
        except (serial.SerialException, OSError, ValueError) as fault:
            if isinstance(fault, BlockingIOError):
                raise
            self._report(f"{self.name}: {fault}")

    def close(self) -> None:
        """Gives the device back."""
        self._port.close()
