"""Puts the stand-ins of a rig on ports, and lets other programs operate them: it leaves a card and takes requests on a socket.

The rule: one loop serves everything, so the stand-ins need no locks; a call from another thread hands it to the loop with
`call`. A system without pseudo-terminals serves RFC 2217 instead. Card and socket are in folders that only the user can enter,
or the socket is a port of this machine where the system has no socket files; a request needs the card's token. A request is
read as far as it has come, never waited for; what is wrong with one is reported only to the client that asked.
"""

from __future__ import annotations

import contextlib
import hmac
import os
import queue
import re
import secrets
import selectors
import shutil
import socket
import tempfile
import threading
import time
from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING

import msgspec

from wexicon.core.agenda import Agenda
from wexicon.core.text import meant, visible
from wexicon.files import create, private_folder, run_folder
from wexicon.rigs.control import LOOPBACK, MOST_ASKED, Card, Request
from wexicon.rigs.device_ports import DevicePort
from wexicon.rigs.rig import Rig, Unit
from wexicon.rigs.tcp_ports import Rfc2217Port, TcpPort
from wexicon.system import HAS_TERMINALS, local_socket

if TYPE_CHECKING:
    from wexicon.rigs.pty_ports import PtyPort


# How long a person takes to put another module in (seconds).
SWAP = 0.3


class Server:
    """Serves a rig under the real clock. `ports` tells each unit's port. What goes wrong in one stand-in is reported to
    `report`, and the others go on."""

    def __init__(self, rig: Rig, report: Callable[[str], None] = lambda text: None) -> None:
        self.rig = rig
        self._report = report
        self.ports: dict[str, str] = {}
        self._selector = selectors.DefaultSelector()
        self._calls: queue.SimpleQueue[Callable[[], None]] = queue.SimpleQueue()
        self._wake, self._woken = socket.socketpair()
        self._woken.setblocking(False)
        self._running = True
        self._open: dict[str, PtyPort | TcpPort | DevicePort] = {}
        self.register(self._woken, self._do_calls)
        rig.agenda.now = time.monotonic()
        for unit in rig.units.values():
            if unit.table.serve != "shelf":
                self._serve(unit)

    def _serve(self, unit: Unit) -> None:
        uart = unit.standin.uart
        port: PtyPort | TcpPort | DevicePort
        serve = unit.table.serve if unit.table.serve != "pty" or HAS_TERMINALS else "rfc2217"
        if serve in ("rfc2217", "tcp"):
            kind = Rfc2217Port if serve == "rfc2217" else TcpPort
            port = kind(uart, unit.table.port, self.register, self._report)
        elif serve.startswith("/"):
            port = DevicePort(uart, serve, self.register, self._report)
        else:
            from wexicon.rigs.pty_ports import PtyPort

            port = PtyPort(uart)
            self.register(port.master, port.readable)
        self._open[unit.name] = port
        self.ports[unit.name] = port.name

    def swap(self, place: str, name: str) -> None:
        """Takes the module off a port (by its unit or path) and puts the unit `name` there; that one's place is taken by the
        other. Both lose their power meanwhile. Raises ValueError."""
        there = next((unit for unit, port in self.ports.items() if place in (unit, port)), None)
        if there is None:
            raise ValueError(f"no unit is on a port {place}; {meant(place, self.ports)}")
        first, second = self.rig.unit(there), self.rig.unit(name)
        if first is second:
            raise ValueError(f"{name} is already on this port")
        ends = [self._open.pop(unit.name, None) for unit in (first, second)]
        for unit in (first, second):
            unit.standin.power(False)
            unit.standin.uart.to_host = lambda data: None
            unit.standin.uart.refresh = lambda: None
            self.ports.pop(unit.name, None)
        for unit, end in ((second, ends[0]), (first, ends[1])):
            if end:
                end.connect(unit.standin.uart)
                self._open[unit.name] = end
                self.ports[unit.name] = end.name
                unit.standin.by_hand((SWAP, lambda unit=unit: unit.standin.power(True)))  # type: ignore[misc]

    def register(self, source: socket.socket | int, readable: Callable[[], None] | None) -> None:
        """Calls `readable` whenever the source can be read; None to be rid of it."""
        if readable:
            self._selector.register(source, selectors.EVENT_READ, readable)
        else:
            self._selector.unregister(source)

    def run(self) -> None:
        """Serves until `stop`; then closes all ports."""
        agenda = self.rig.agenda
        self.rig.power_up()
        try:
            while self._running:
                due = agenda.due()
                wait = None if due is None else max(0.0, due - time.monotonic())
                ready = self._selector.select(wait)
                self._carefully(lambda: agenda.run_until(time.monotonic()))
                for key, _ in ready:
                    self._carefully(key.data)
                self._carefully(lambda: agenda.run_until(time.monotonic()))
                for port in self._open.values():
                    if isinstance(port, DevicePort):
                        self._carefully(port.settle)
        finally:
            for port in self._open.values():
                port.close()
            self._selector.close()
            self._wake.close()
            self._woken.close()

    def _carefully(self, action: Callable[[], object]) -> None:
        try:
            action()
        except Exception as fault:
            self._report(f"a stand-in failed: {type(fault).__name__}: {visible(str(fault))}; the rig goes on")

    def _do_calls(self) -> None:
        with contextlib.suppress(BlockingIOError):
            self._woken.recv(4096)
        while not self._calls.empty():
            self._carefully(self._calls.get())

    def call(self, action: Callable[[], None]) -> None:
        """Does `action` in the loop; may be called from any thread."""
        self._calls.put(action)
        with contextlib.suppress(OSError):
            self._wake.send(b".")

    def stop(self) -> None:
        """Ends `run`; may be called from any thread."""

        def end() -> None:
            self._running = False

        self.call(end)


@contextlib.contextmanager
def served(rig: Rig) -> Iterator[Server]:
    """Serves the rig in a thread of this program while the block lasts."""
    server = Server(rig)
    thread = threading.Thread(target=server.run, name="rig", daemon=True)
    thread.start()
    try:
        yield server
    finally:
        server.stop()
        thread.join(timeout=5)


class RigOperator:
    """Does for a unit of a rig in this program what a person does at the bench."""

    switches_power = True
    there = True

    def __init__(self, server: Server, unit: str) -> None:
        self._server = server
        self._unit = server.rig.unit(unit)

    def ask(self, act: str, text: str) -> None:
        self._server.call(lambda: self._unit.work("operate", act))

    def noticed(self) -> None:
        pass

    def confirm(self, act: str, text: str, wait: Callable[[Callable[[], bool]], None]) -> None:
        self.ask(act, text)

    def answer(self, text: str, wait: Callable[[Callable[[], bool]], None]) -> str | None:
        # A rig has no eyes for an instrument.
        return None


def real_agenda() -> Agenda:
    """An agenda that begins at the machine's time."""
    return Agenda(time.monotonic())


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
            server.rig.title,
            there,
            os.getpid(),
            server.ports,
            {name: unit.standin.family for name, unit in server.rig.units.items()},
            secrets.token_hex(16),
        )
        self._leave_card()

    def _listening(self) -> tuple[socket.socket, str]:
        """A socket that listens, and where."""
        found = local_socket()
        if found is None:
            listener = socket.create_server((LOOPBACK, 0))
            return listener, f"{LOOPBACK}:{listener.getsockname()[1]}"
        # A folder for its owner alone, and short: the name of a socket file may have some hundred characters only.
        usual = tempfile.gettempdir()
        self._folder = tempfile.mkdtemp(prefix="wexicon-", dir=usual if len(usual) < LONGEST_FOLDER else "/tmp")
        listener = found
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
                self._server.rig.unit(request.unit).work(request.do, request.what)
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
