"""Sockets of this machine as links: one that connects, and one that listens for a client.

The rule: it behaves as a port does. What the other side sent is read to its end before its going is a fault; a socket that
listens waits for a client while it is read. Only this machine can be that client, unless the command line allows others. It
has no rate, no control lines and no break: to ask for one is a fault.
"""

from __future__ import annotations

import contextlib
import os
import select
import socket
from collections.abc import Callable
from ipaddress import ip_address
from typing import Self
from urllib.parse import urlsplit

from wexicon.core.faults import CallFault, CannotTune, LinkFault
from wexicon.core.protocol.link import Link
from wexicon.core.tuning import Tuning
from wexicon.links.clock import RealClock


class NoWire:
    """A link without a wire; it closes at the end of its block."""

    name: str
    # No byte takes any time worth counting.
    tuning = Tuning(12_000_000)

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *exc: object) -> None:
        self.close()

    def close(self) -> None:
        """Closes it; any later use raises LinkFault."""
        raise NotImplementedError

    def tune(self, tuning: Tuning) -> None:
        if tuning.wired_as(self.tuning):
            self.tuning = tuning
            return
        raise CannotTune("a socket has no rate", where=self.name)

    def signal(self, *, dtr: bool | None = None, rts: bool | None = None) -> None:
        raise CannotTune("a socket has no control lines", where=self.name)

    def lines(self) -> dict[str, bool]:
        raise CannotTune("a socket has no control lines", where=self.name)

    def hold_break(self, on: bool) -> None:
        raise CannotTune("a socket has no break", where=self.name)


# The addresses of this machine at which dialogues may wait for clients from others, with blanks between.
LISTEN_VARIABLE = "WEXICON_ALLOW_LISTENING"
CONNECTS_WITHIN = 5.0
LARGEST_READ = 65_536
# How much of what the other side does not take may wait (bytes).
MOST_WAITING = 1_048_576


def parsed(url: str) -> tuple[str, str, int]:
    """Scheme, host and port of a socket's URL. Raises LinkFault."""
    try:
        parts = urlsplit(url)
        host, port = parts.hostname, parts.port
    except ValueError:
        host = port = None
    if host is None or port is None or parts.scheme not in ("socket", "listen"):
        raise LinkFault("is no socket", where=url, hint="Write socket://HOST:PORT, or listen://HOST:PORT.")
    return parts.scheme, host, port


# While stand-ins are on ports in virtual time sockets are simulated: what opens one then, the latest last.
SIMULATED: list[Callable[[str], Link]] = []


def open_socket(url: str) -> Link:
    """Opens socket://HOST:PORT, or listen://HOST:PORT (0: any free port, which `name` then tells). Raises LinkFault."""
    if SIMULATED:
        return SIMULATED[-1](url)
    scheme, host, port = parsed(url)
    try:
        if scheme == "listen":
            _require_allowed(host, port, url)
            return SocketLink(url, listener=socket.create_server((host, port)))
        return SocketLink(url, socket.create_connection((host, port), timeout=CONNECTS_WITHIN))
    except OSError as fault:
        does = "can be served" if scheme == "listen" else "answers"
        told = LinkFault(f"nothing {does} there: {fault.strerror or fault}", where=url)
        told.refused = isinstance(fault, ConnectionRefusedError)
        raise told from None


def _require_allowed(host: str, port: int, url: str) -> None:
    """Raises CallFault if other machines could connect there and that was not allowed; OSError if it is no address."""
    if host in os.environ.get(LISTEN_VARIABLE, "").split():
        return
    found = {str(one[4][0]) for one in socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)}
    if not all(ip_address(one.partition("%")[0]).is_loopback for one in found):
        hint = f"Allow it: wexicon --allow-listening {host} COMMAND, or use 127.0.0.1."
        raise CallFault("other machines could connect there", where=url, hint=hint)


class SocketLink(NoWire):
    """A TCP connection, or a place where one client is waited for; `accepted` is called with the client's address."""

    def __init__(self, name: str, client: socket.socket | None = None, listener: socket.socket | None = None) -> None:
        self.name = name if listener is None else f"listen://{listener.getsockname()[0]}:{listener.getsockname()[1]}"
        self.clock = RealClock()
        self._client, self._listener = client, listener
        self._waiting = bytearray()
        self._closed = False
        self.accepted: Callable[[str], None] = lambda peer: None
        for one in (client, listener):
            if one:
                one.setblocking(False)

    def _require_open(self) -> None:
        if self._closed:
            raise LinkFault("the socket was closed", where=self.name)

    def write(self, data: bytes) -> None:
        self._require_open()
        if self._client is None:
            raise LinkFault("no client is there to say this to", where=self.name, hint="Await what it says first.")
        self._waiting += data
        if len(self._waiting) > MOST_WAITING:
            raise LinkFault("the other side does not read what it is sent", where=self.name)
        self._push()

    def _push(self) -> None:
        """Sends what can be sent now."""
        assert self._client
        with contextlib.suppress(BlockingIOError):
            try:
                del self._waiting[: self._client.send(self._waiting)]
            except BlockingIOError:
                raise
            except OSError as fault:
                raise LinkFault(f"the other side is gone: {fault.strerror}", where=self.name) from None

    def read(self, until: float) -> bytes:
        self._require_open()
        while True:
            source = self._client or self._listener
            assert source
            wait = max(0.0, until - self.clock.now())
            writes = [source] if self._waiting and self._client else []
            readable, writable, _ = select.select([source], writes, [], wait)
            if writable:
                self._push()
            if readable and self._client is None:
                self._accept()
            elif readable:
                return self._received()
            if self.clock.now() >= until:
                return b""

    def _accept(self) -> None:
        assert self._listener
        with contextlib.suppress(OSError):
            self._client, peer = self._listener.accept()
            self._client.setblocking(False)
            self.accepted(f"{peer[0]}:{peer[1]}")
            # One client: others find nobody.
            self._listener.close()
            self._listener = None

    def _received(self) -> bytes:
        assert self._client
        try:
            data = self._client.recv(LARGEST_READ)
        except BlockingIOError:
            return b""
        except OSError as fault:
            raise LinkFault(f"the other side is gone: {fault.strerror}", where=self.name) from None
        if not data:
            raise LinkFault("the other side has closed the connection", where=self.name)
        return data

    def close(self) -> None:
        self._closed = True
        for one in (self._client, self._listener):
            if one:
                one.close()
        self._client = self._listener = None
