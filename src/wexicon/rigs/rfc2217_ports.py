"""Stand-ins behind TCP ports by RFC 2217, which carries rate, frame and control lines too.

The rule: a negotiation that is short, too long or out of range ends its client, and nothing else.
"""

from __future__ import annotations

import msgspec
import serial
import serial.rfc2217

from wexicon.core.tuning import Tuning
from wexicon.rigs.tcp_ports import TcpPort
from wexicon.rigs.uart import Uart


class _Lines:
    """What pyserial's RFC 2217 server sees as its serial port: the host's side of the wire."""

    xonxoff = rtscts = dsrdtr = break_condition = False

    def __init__(self, uart: Uart) -> None:
        self.uart = uart

    def _set(self, **changes: object) -> None:
        """Raises ValueError for what no UART has, which the telnet side then refuses."""
        wanted = msgspec.structs.replace(self.uart.host, **changes)
        self.uart.host = Tuning.of(wanted.rate, wanted.frame)

    baudrate = property(lambda self: self.uart.host.rate, lambda self, rate: self._set(rate=rate))
    bytesize = property(lambda self: self.uart.host.bits, lambda self, bits: self._set(bits=bits))
    parity = property(lambda self: self.uart.host.parity, lambda self, parity: self._set(parity=parity))
    stopbits = property(lambda self: self.uart.host.stop, lambda self, stop: self._set(stop=int(stop)))
    dtr = property(lambda self: self.uart.dtr, lambda self, on: self.uart.from_host_signals(dtr=on))
    rts = property(lambda self: self.uart.rts, lambda self, on: self.uart.from_host_signals(rts=on))

    cts = property(lambda self: self.uart.outputs["cts"])
    dsr = property(lambda self: self.uart.outputs["dsr"])
    cd = property(lambda self: self.uart.outputs["dcd"])
    ri = property(lambda self: self.uart.outputs["ri"])

    def reset_input_buffer(self) -> None:
        pass

    def reset_output_buffer(self) -> None:
        pass


class Rfc2217Port(TcpPort):
    """One stand-in behind a TCP port (RFC 2217)."""

    scheme = "rfc2217"

    def connect(self, uart: Uart) -> None:
        """Another module takes the place on this port."""
        uart.host, uart.dtr, uart.rts = self.uart.host, self.uart.dtr, self.uart.rts
        self.uart = uart
        self._host = _Lines(uart)
        uart.to_host = self.to_host
        uart.moved = self._moved

    def _moved(self) -> None:
        """A line of the module has moved: the client is notified."""
        if self._client:
            self._telnet.check_modem_lines(force_notification=True)

    def _opened(self) -> None:
        # The lines fell when the port was closed, and rise as it is opened.
        self.uart.from_host_signals(dtr=False, rts=False)
        self._telnet = serial.rfc2217.PortManager(self._host, self)

    def to_host(self, data: bytes) -> None:
        """What the stand-in sends, as telnet has it."""
        if self._client:
            self.write(b"".join(self._telnet.escape(data)))

    def _plain(self, data: bytes) -> bytes:
        return b"".join(self._telnet.filter(data))
