"""Working a running rig from another program: its keys, its power, its end. `desk` is the rig's side.

The rule: a rig listens on this machine only, and obeys only who can read its card, a file of the user's own that tells
its address, its ports and a word to be let in.
"""

from __future__ import annotations

import contextlib
import json
import os
from pathlib import Path
from typing import Any

import msgspec

from wexicon.core.faults import CallFault
from wexicon.core.text import meant


class Card(msgspec.Struct):
    """What others need to work a running rig."""

    name: str
    title: str
    address: tuple[str, int]
    word: str
    process: int
    ports: dict[str, str]
    standins: dict[str, str]


def card_folder() -> Path:
    """Where running rigs leave their cards."""
    own = os.environ.get("WEXICON_RUN")
    if own:
        return Path(own)
    import platformdirs

    return platformdirs.user_state_path("wexicon") / "rigs"


def cards() -> list[Card]:
    """The cards of all rigs that are running; those of rigs that died are taken away."""
    found = []
    for path in sorted(card_folder().glob("*.json")):
        import socket

        try:
            card = msgspec.json.decode(path.read_bytes(), type=Card)
            with socket.create_connection(card.address, timeout=1):
                found.append(card)
        except (OSError, msgspec.DecodeError):
            with contextlib.suppress(OSError):
                path.unlink()
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


def ask(card: Card, **request: Any) -> None:
    """Has a running rig do something. Raises CallFault with its answer where it will not."""
    import socket

    try:
        with socket.create_connection(card.address, timeout=5) as line:
            line.sendall(json.dumps({"word": card.word, **request}).encode() + b"\n")
            answer = line.makefile("rb").readline()
    except OSError as fault:
        raise CallFault(f"the rig {card.name} does not answer: {fault}") from None
    told = json.loads(answer or b'{"fault": "it hung up"}')
    if refusal := told.get("fault"):
        raise CallFault(str(refusal))


class RemoteOperator:
    """Has a rig in another program do what a person does at the bench."""

    cuts_power = True
    there = True

    def __init__(self, name: str) -> None:
        self._card, self._unit = find_unit(name)

    def ask(self, act: str, text: str) -> None:
        ask(self._card, do="operate", unit=self._unit, what=act)

    def noticed(self) -> None:
        pass
