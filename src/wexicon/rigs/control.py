"""Working a running rig from another program: its keys, its power, its end. `desk` is the rig's side.

The rule: a rig listens on a socket file in a folder that only the user can enter, or, where the system has none, on a port of
this machine; it does what comes with the token of its card, which only the user can read.
"""

from __future__ import annotations

import contextlib
import socket
from collections.abc import Callable

import msgspec

from wexicon.core.faults import CallFault
from wexicon.core.text import meant
from wexicon.files import read_record, run_folder
from wexicon.links.lock import split_station
from wexicon.system import local_socket

# Where a rig listens on a system without socket files.
LOOPBACK = "127.0.0.1"
# How long a request may be (bytes), and how long a rig may take to answer one (seconds).
MOST_ASKED = 4096
PATIENT = 5.0


class Card(msgspec.Struct):
    """What others need to work a running rig; `token` shows that they have read this card."""

    name: str
    title: str
    socket: str
    process: int
    ports: dict[str, str]
    standins: dict[str, str]
    token: str = ""

    def __str__(self) -> str:
        return f"{self.name} (process {self.process})"


class Request(msgspec.Struct):
    """What a rig is asked to do: `stop`, or something with a unit."""

    do: str
    unit: str = ""
    what: str = ""
    token: str = ""


class RequestAnswer(msgspec.Struct):
    """What was wrong with a request; empty where it was done."""

    fault: str = "it hung up"


# Rigs of this process, in virtual time, and what does what they are asked; the latest first.
IN_PROCESS: list[tuple[Card, Callable[[Request], None]]] = []


def _call(card: Card) -> socket.socket:
    """A connection to a rig. Raises OSError."""
    host, _, port = card.socket.rpartition(":")
    there: str | tuple[str, int] = (host, int(port)) if host == LOOPBACK and port.isdecimal() else card.socket
    line = socket.socket() if isinstance(there, tuple) else local_socket()
    if line is None:
        raise OSError("this system has no socket files")
    line.settimeout(PATIENT)
    try:
        line.connect(there)
    except OSError:
        line.close()
        raise
    return line


def cards() -> list[Card]:
    """The cards of all rigs that are running; those of rigs that died are removed."""
    found = [card for card, _ in IN_PROCESS]
    for path in sorted(run_folder().glob("*.json")):
        try:
            if card := read_record(path, Card):
                _call(card).close()
                found.append(card)
        except (OSError, CallFault):
            with contextlib.suppress(OSError):
                path.unlink()
    return found


def find_rig(name: str) -> list[Card]:
    """The running rigs of a name or a process number. Raises CallFault where there is none."""
    running = cards()
    found = [card for card in running if name in (card.name, str(card.process))]
    if not found:
        raise CallFault(f"no rig {name} is running", hint=meant(name, {card.name for card in running}))
    return found


def find_unit(name: str) -> tuple[Card, str]:
    """The running rig that has a unit of this name, or a unit on this port. Raises CallFault."""
    running = cards()
    for card in running:
        for unit, port in card.ports.items():
            if name in (unit, port, f"{card.name}/{unit}"):
                return card, unit
    if not running:
        raise CallFault("no rig is running", hint="Start one in another terminal: wexicon rig start FILE")
    units = [unit for card in running for unit in card.ports]
    raise CallFault(f"no running rig has a unit or a port {name}", hint=meant(name, units))


def ask(card: Card, request: Request) -> None:
    """Has a running rig do something. Raises CallFault with its answer where it will not."""
    for own, work in IN_PROCESS:
        if own is card:
            try:
                work(request)
            except ValueError as fault:
                raise CallFault(str(fault)) from None
            return
    try:
        with _call(card) as line:
            line.sendall(msgspec.json.encode(msgspec.structs.replace(request, token=card.token)) + b"\n")
            answer = line.makefile("rb").readline(MOST_ASKED)
        told = msgspec.json.decode(answer or b"{}", type=RequestAnswer)
    except (OSError, msgspec.DecodeError) as fault:
        raise CallFault(f"the rig {card} does not answer: {fault}") from None
    if told.fault:
        raise CallFault(told.fault)


class RemoteOperator:
    """Has a rig in another program do what a person does at the bench."""

    switches_power = True
    there = True

    def __init__(self, name: str) -> None:
        self._card, self._unit = find_unit(split_station(name)[0])

    def ask(self, act: str, text: str) -> None:
        ask(self._card, Request("operate", self._unit, act))

    def noticed(self) -> None:
        pass

    def confirm(self, act: str, text: str, wait: Callable[[Callable[[], bool]], None]) -> None:
        self.ask(act, text)

    def answer(self, text: str, wait: Callable[[Callable[[], bool]], None]) -> str | None:
        # A rig has no eyes for an instrument.
        return None
