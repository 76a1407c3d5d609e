"""Stand-ins behind TCP ports of this machine: the bytes alone, or by RFC 2217, which carries rate, frame and control lines
too.

The rule: only the user who runs the rig is served, as far as the system tells who is there; root is. A client that says
nothing makes room for the next; a negotiation that is short, too long or out of range ends its client, and nothing else.
"""

from __future__ import annotations

import contextlib
import socket
import sys
import time
from collections.abc import Callable
from pathlib import Path

import msgspec
import serial
import serial.rfc2217

from wexicon import system
from wexicon.core.faults import LinkFault
from wexicon.core.tuning import Tuning
from wexicon.rigs.uart import Uart

# Calls a function whenever a file can be read; None ends that.
Register = Callable[[socket.socket | int, Callable[[], None] | None], None]
# A client that has said nothing by now only holds the place (seconds); one of RFC 2217 negotiates at once.
SPEAKS_WITHIN = 2.0


def peer_user(client: socket.socket) -> int | None:
    """The user whose program is at the other end of a TCP connection on this machine; None if the system does not tell. Linux
    does, in proc_pid_net(5)."""
    host, port = client.getpeername()[:2]
    # In the order of this machine's bytes; in the table for IPv6 behind the mark of a mapped address.
    place = f"{int.from_bytes(socket.inet_aton(host), sys.byteorder):08X}:{port:04X}"
    for table in ("/proc/net/tcp", "/proc/net/tcp6"):
        with contextlib.suppress(OSError, ValueError, IndexError):
            for line in Path(table).read_text().splitlines()[1:]:
                words = line.split()
                if words[1].endswith(place):
                    return int(words[7])
    return None


class TcpPort:
    """One stand-in behind a TCP port of this machine, for one client at a time. The client has the stand-in's rate and frame,
    and no control lines. `report` is called with those that are turned away."""

    scheme = "socket"

    def __init__(
        self, uart: Uart, port: int, register: Register, report: Callable[[str], None] = lambda text: None
    ) -> None:
        self.uart = uart
        self._report = report
        self._register = register
        try:
            self.listener = socket.create_server(("127.0.0.1", port))
        except OSError as fault:
            raise LinkFault(f"TCP port {port} cannot be served: {fault.strerror}", hint="Name another, or 0.") from None
        self.listener.setblocking(False)
        self.name = f"{self.scheme}://127.0.0.1:{self.listener.getsockname()[1]}"
        self._client: socket.socket | None = None
        self._came = 0.0
        # Whether the client has sent anything.
        self._spoke = False
        self.connect(uart)
        register(self.listener, self._accept)

    def connect(self, uart: Uart) -> None:
        """Another module takes the place on this port."""
        self.uart = uart
        uart.to_host, uart.refresh = self.to_host, self._same_rate
        self._same_rate()

    def _same_rate(self) -> None:
        self.uart.host = self.uart.tuning

    def _accept(self) -> None:
        client, _ = self.listener.accept()
        user = peer_user(client)
        if user and user != system.user():
            self._report(f"{self.name}: user {user} was turned away")
            client.close()
            return
        if self._client and not self._spoke and time.monotonic() - self._came > SPEAKS_WITHIN:
            self._leave()
        if self._client:
            client.close()
            return
        client.setsockopt(socket.IPPROTO_TCP, socket.TCP_NODELAY, 1)
        client.setblocking(False)
        self._client, self._came, self._spoke = client, time.monotonic(), False
        self._opened()
        self._register(client, self._readable)

    def _opened(self) -> None:
        """A client has come."""

    def write(self, data: bytes) -> None:
        """To the client. One that does not read loses bytes."""
        if self._client:
            with contextlib.suppress(OSError):
                self._client.send(data)

    def to_host(self, data: bytes) -> None:
        """What the stand-in sends."""
        self.write(data)

    def _plain(self, data: bytes) -> bytes:
        """What of a client's bytes is for the stand-in. Any exception ends this client, and nothing else."""
        return data

    def _readable(self) -> None:
        assert self._client
        try:
            data = self._client.recv(65_536)
        except BlockingIOError:
            return
        except OSError:
            data = b""
        self._spoke = True
        try:
            plain = self._plain(data)
        except Exception:
            data = plain = b""
        if not data:
            self._leave()
        elif plain:
            self.uart.refresh()
            self.uart.from_host(plain)

    def _leave(self) -> None:
        """The client goes."""
        assert self._client
        self._register(self._client, None)
        self._client.close()
        self._client = None

    def close(self) -> None:
        """Ends the client and the port."""
        if self._client:
            self._client.close()
        self.listener.close()


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
