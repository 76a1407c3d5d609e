"""A running rig's own side of being worked: leaves a card, takes requests.

The rule: it obeys only who can read its card, a file of the user's own.
"""

from __future__ import annotations

import contextlib
import json
import os
import re
import secrets
import socket

import msgspec

from wexicon.rig.control import Card, card_folder
from wexicon.rig.serving import Server


class Desk:
    """The running rig's side: takes requests and leaves the card."""

    def __init__(self, server: Server, name: str) -> None:
        self._server = server
        self._listener = socket.create_server(("127.0.0.1", 0))
        self._listener.setblocking(False)
        server.register(self._listener, self._accept)
        self.card = Card(
            re.sub(r"[^A-Za-z0-9_.-]", "-", name),
            server.bench.title,
            self._listener.getsockname(),
            secrets.token_hex(16),
            os.getpid(),
            server.ports,
            {name: unit.standin.family for name, unit in server.bench.units.items()},
        )
        self.path = card_folder() / f"{self.card.name}.json"
        self.path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        self.path.unlink(missing_ok=True)
        with os.fdopen(os.open(self.path, os.O_WRONLY | os.O_CREAT | os.O_EXCL, 0o600), "wb") as file:
            file.write(msgspec.json.encode(self.card))

    def _accept(self) -> None:
        line, _ = self._listener.accept()
        line.settimeout(0.5)
        with line, contextlib.suppress(OSError):
            request = line.makefile("rb").readline(4096)
            if request:
                line.sendall(json.dumps(self._do(request)).encode() + b"\n")

    def _do(self, request: bytes) -> dict[str, str]:
        try:
            asked = json.loads(request)
            if not secrets.compare_digest(str(asked["word"]), self.card.word):
                return {"fault": "this rig does not obey you"}
            if asked["do"] == "stop":
                self._server.stop()
            else:
                self._server.bench.unit(str(asked["unit"])).work(str(asked["do"]), str(asked.get("what", "")))
        except (ValueError, KeyError, TypeError) as fault:
            return {"fault": str(fault)}
        return {}

    def close(self) -> None:
        self._listener.close()
        self.path.unlink(missing_ok=True)
