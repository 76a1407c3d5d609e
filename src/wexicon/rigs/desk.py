"""A running rig's own side of being worked: leaves a card, takes requests on a socket.

The rule: card and socket are in folders that only the user can enter, or the socket is a port of this machine where the system
has no socket files; a request needs the card's token. It is read as far
as it has come, never waited for; what is wrong with one is reported only to the client that asked.
"""

from __future__ import annotations

import contextlib
import hmac
import os
import re
import secrets
import shutil
import socket
import tempfile

import msgspec

from wexicon.files import create, private_folder
from wexicon.folders import run_folder
from wexicon.rigs.control import LOOPBACK, MOST_ASKED, Card, Request
from wexicon.rigs.serving import Server

LONGEST_FOLDER = 64


class Desk:
    """The running rig's side. Each rig has a card of its own, whatever its file is called."""

    def __init__(self, server: Server, name: str) -> None:
        self._server = server
        folder = private_folder(run_folder())
        plain = re.sub(r"[^A-Za-z0-9_.-]", "-", name)
        self.path = folder / f"{plain}-{os.getpid()}.json"
        self.path.unlink(missing_ok=True)
        self._folder = ""
        self._listener, there = self._listening()
        self._listener.setblocking(False)
        self._asking: dict[socket.socket, bytes] = {}
        server.register(self._listener, self._accept)
        self.card = Card(
            plain,
            server.bench.title,
            there,
            os.getpid(),
            server.ports,
            {name: unit.standin.family for name, unit in server.bench.units.items()},
            secrets.token_hex(16),
        )
        self._leave_card()

    def _listening(self) -> tuple[socket.socket, str]:
        """A socket that listens, and where."""
        if not hasattr(socket, "AF_UNIX"):
            listener = socket.create_server((LOOPBACK, 0))
            return listener, f"{LOOPBACK}:{listener.getsockname()[1]}"
        # A folder for its owner alone, and short: the name of a socket file may have some hundred characters only.
        usual = tempfile.gettempdir()
        self._folder = tempfile.mkdtemp(prefix="wexicon-", dir=usual if len(usual) < LONGEST_FOLDER else "/tmp")
        listener = socket.socket(socket.AF_UNIX)
        listener.bind(f"{self._folder}/rig")
        listener.listen()
        return listener, f"{self._folder}/rig"

    def _leave_card(self) -> None:
        # Whole at once: who looks for cards meanwhile takes half a card for one of a rig that died.
        beside = self.path.with_suffix(".new")
        with create(beside, force=True) as file:
            file.write(msgspec.json.encode(self.card))
        beside.rename(self.path)

    def _accept(self) -> None:
        line, _ = self._listener.accept()
        line.setblocking(False)
        self._asking[line] = b""
        self._server.register(line, lambda: self._readable(line))

    def _readable(self, line: socket.socket) -> None:
        try:
            data = line.recv(4096)
        except BlockingIOError:
            return
        except OSError:
            data = b""
        self._asking[line] += data
        asked, ended, _ = self._asking[line].partition(b"\n")
        if data and not ended and len(asked) <= MOST_ASKED:
            return
        if asked:
            with contextlib.suppress(OSError):
                line.sendall(msgspec.json.encode({"fault": self._do(asked[:MOST_ASKED])}) + b"\n")
        self._server.register(line, None)
        del self._asking[line]
        line.close()

    def _do(self, asked: bytes) -> str:
        """Does what is asked; gives what is wrong with it."""
        try:
            request = msgspec.json.decode(asked, type=Request)
            if not hmac.compare_digest(request.token.encode(), self.card.token.encode()):
                return "the token is not that of this rig's card"
            if request.do == "stop":
                self._server.stop()
            elif request.do == "swap":
                self._server.swap(request.unit, request.what)
                self._leave_card()
            else:
                self._server.bench.unit(request.unit).work(request.do, request.what)
        except Exception as fault:  # a request must never stop the rig
            return str(fault) or type(fault).__name__
        return ""

    def close(self) -> None:
        # The server's thread may still be at work on one of them.
        for line in tuple(self._asking):
            line.close()
        self._listener.close()
        if self._folder:
            shutil.rmtree(self._folder, ignore_errors=True)
        self.path.unlink(missing_ok=True)
