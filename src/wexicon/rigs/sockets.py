"""Sockets that stand-ins open: to a service of the rig, or really, on this machine; and ports at which they serve.

The rule: only addresses of this machine are ever reached, and only from it. What comes in is looked for at times that the
agenda gives, so that the same code serves the real clock and the virtual one.
"""

from __future__ import annotations

import contextlib
import re
import select
import socket
from collections.abc import Callable

from wexicon.rigs.air import TRAVEL, Client
from wexicon.rigs.standin import StandIn

EVERY = 0.05
# Real seconds to wait at each look: under the virtual clock nothing else gives this machine time to answer.
LOOK = 0.004
ECHO_TIME = 0.3
LARGEST_READ = 1500
# A service of the rig besides sockets of this machine: `echo` at once, `slow 4s` which echoes later, `closes 2s` which hangs up
# by itself, and `refuses`.
SERVICE = re.compile(r"echo|slow (?P<slow>[0-9.]+)s|(?:echo, )?closes (?P<closes>[0-9.]+)s")


class Channel:
    """One open socket of a stand-in; `received` is called with what comes in, `ended` when the other side closes."""

    def __init__(self, standin: StandIn, received: Callable[[bytes], None], ended: Callable[[], None]) -> None:
        self.standin = standin
        self.received = received
        self.ended = ended
        self._socket: socket.socket | None = None
        self._simulated: Client | None = None
        self._echoes_after = ECHO_TIME
        self.open = self.known = False

    def connect(self, host: str, port: int, kind: str = "TCP") -> bool:
        """Opens it; whether there is anybody. `known` says whether the name is known at all."""
        service = self.standin.air.services.get(host, "")
        self.known = bool(service) or bool(re.fullmatch(r"[0-9.]+", host))
        if service == "refuses":
            return False
        if acts := SERVICE.fullmatch(service):
            self.open = True
            if acts["closes"]:
                self.standin.after(float(acts["closes"]), self.went)
            self._echoes_after = float(acts["slow"] or ECHO_TIME)
            return True
        address, _, own_port = service.partition(":")
        if re.fullmatch(r"[0-9]{1,5}", own_port):
            port = int(own_port)
        if listening := self.standin.air.listeners.get((address or host, port)):
            return listening.connected(self) and self.simulated(listening)
        if address != "127.0.0.1":
            return False
        try:
            made = socket.socket(socket.AF_INET, socket.SOCK_STREAM if kind == "TCP" else socket.SOCK_DGRAM)
            made.settimeout(1)
            made.connect(("127.0.0.1", port))
        except OSError:
            return False
        self.real(made)
        return True

    def real(self, made: socket.socket) -> None:
        """From now on it is this socket, which is connected."""
        made.setblocking(False)
        self._socket, self.open = made, True
        self.standin.after(EVERY, self._look)

    def simulated(self, client: Client) -> bool:
        """From now on the other end is a simulated socket."""
        self._simulated, self.open = client, True
        return True

    def send(self, data: bytes) -> bool:
        """Sends; whether it could be sent."""
        if not self.open:
            return False
        if other := self._simulated:
            self.standin.after(TRAVEL, lambda: other.take(data))
            return True
        if self._socket is None:
            self.standin.after(self._echoes_after, lambda: self.received(data) if self.open else None)
            return True
        try:
            self._socket.sendall(data)
        except OSError:
            self.close()
            return False
        return True

    def _look(self) -> None:
        if not self._socket:
            return
        ready, _, _ = select.select([self._socket], [], [], LOOK)
        if ready:
            data = b""
            with contextlib.suppress(OSError):
                data = self._socket.recv(LARGEST_READ)
            if not data:
                self.close()
                self.ended()
                return
            self.received(data)
        self.standin.after(EVERY, self._look)

    def close(self) -> None:
        """Closes it."""
        self.open = False
        if self._simulated:
            self._simulated.hang_up()
            self._simulated = None
        if self._socket:
            self._socket.close()
            self._socket = None

    def arrived(self, data: bytes) -> None:
        """The simulated socket at the other end sends."""
        self.standin.after(TRAVEL, lambda: self.received(data) if self.open else None)

    def went(self) -> None:
        """The simulated socket at the other end closes."""
        self._simulated = None
        if self.open:
            self.close()
            self.ended()


class Served:
    """A port of this machine at which a stand-in lets clients in. `meets` gives the channel for a new client, or None if there
    is no room: then its connection is closed at once. Raises OSError if the port is taken."""

    def __init__(self, standin: StandIn, port: int, meets: Callable[[], Channel | None]) -> None:
        self.standin, self.port, self.meets = standin, port, meets
        air = standin.air
        if port in air.served:
            raise OSError("another stand-in serves there")
        self._listener: socket.socket | None = None
        if not air.simulated:
            self._listener = socket.create_server(("127.0.0.1", port))
            self._listener.setblocking(False)
            standin.after(EVERY, self._look)
        air.served[port] = self

    def client(self, made: Client) -> Channel | None:
        """A simulated client connects; the channel to it."""
        channel = self.meets()
        if channel:
            channel.simulated(made)
        return channel

    def _look(self) -> None:
        while self._listener:
            try:
                made, _ = self._listener.accept()
            except OSError:
                break
            if channel := self.meets():
                channel.real(made)
            else:
                made.close()
        if self._listener:
            self.standin.after(EVERY, self._look)

    def close(self) -> None:
        """No client is accepted any more; those that are connected stay."""
        self.standin.air.served.pop(self.port, None)
        if self._listener:
            self._listener.close()
            self._listener = None
