"""Sockets that stand-ins open: to a service of the rig, or really, on this machine.

The rule: only addresses of this machine are ever reached. What comes in is looked for at times that the agenda gives, so that
the same code serves the real clock and the virtual one.
"""

from __future__ import annotations

import contextlib
import re
import select
import socket
from collections.abc import Callable

from wexicon.rig.air import TRAVEL, Listening
from wexicon.rig.standin import StandIn

EVERY = 0.05
# Real seconds to wait at each look: under the virtual clock nothing else gives this machine time to answer.
LOOK = 0.004
ECHO_TIME = 0.3


class Channel:
    """One open socket of a stand-in; `received` is called with what comes in, `ended` when the other side closes."""

    def __init__(self, standin: StandIn, received: Callable[[bytes], None], ended: Callable[[], None]) -> None:
        self.standin = standin
        self.received = received
        self.ended = ended
        self._socket: socket.socket | None = None
        self._listening: Listening | None = None
        self.open = False

    def connect(self, host: str, port: int, kind: str = "TCP") -> bool:
        """Opens it; whether there is anybody."""
        service = self.standin.air.services.get(host, "")
        if service == "echo":
            self.open = True
            return True
        address, _, own_port = service.partition(":")
        if re.fullmatch(r"[0-9]{1,5}", own_port):
            port = int(own_port)
        if listening := self.standin.air.listeners.get((address or host, port)):
            if not listening.connected(self):
                return False
            self._listening, self.open = listening, True
            return True
        if address != "127.0.0.1":
            return False
        try:
            made = socket.socket(socket.AF_INET, socket.SOCK_STREAM if kind == "TCP" else socket.SOCK_DGRAM)
            made.settimeout(1)
            made.connect(("127.0.0.1", port))
            made.setblocking(False)
        except OSError:
            return False
        self._socket, self.open = made, True
        self.standin.after(EVERY, self._look)
        return True

    def send(self, data: bytes) -> bool:
        """Sends; whether it could be sent."""
        if not self.open:
            return False
        if listening := self._listening:
            self.standin.after(TRAVEL, lambda: listening.take(data))
            return True
        if self._socket is None:
            self.standin.after(ECHO_TIME, lambda: self.received(data) if self.open else None)
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
                data = self._socket.recv(1024)
            if not data:
                self.close()
                self.ended()
                return
            self.received(data)
        self.standin.after(EVERY, self._look)

    def close(self) -> None:
        """Closes it."""
        self.open = False
        if self._listening:
            self._listening.hang_up()
            self._listening = None
        if self._socket:
            self._socket.close()
            self._socket = None

    def arrived(self, data: bytes) -> None:
        """The simulated socket at the other end sends."""
        self.standin.after(TRAVEL, lambda: self.received(data) if self.open else None)

    def went(self) -> None:
        """The simulated socket at the other end closes."""
        self._listening = None
        self.close()
        self.ended()
