"""`wexicon rig`: stand-ins on ports, and the operators that work them."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path
from typing import TYPE_CHECKING

import click

from wexicon.cli.help import Group
from wexicon.cli.show import emit_json, json_option, print_line, print_note, print_table
from wexicon.core.faults import CallFault
from wexicon.files import read_file

if TYPE_CHECKING:
    from wexicon.rigs.control import Card


@click.group(cls=Group)
def rig() -> None:
    """Start stand-ins on ports; operate their keys and power from another terminal.

    Examples:
      wexicon rig start rig.toml
      wexicon rig power withy-plug cycle

    Exit status: 0 success; 2 no such rig or unit, no answer from the rig, or an error in the file.
    """


@rig.command()
@click.argument("path", metavar="FILE", type=click.Path(path_type=Path))
def start(path: Path) -> None:
    """Serve the stand-ins of the rig in FILE until Ctrl-C or `wexicon rig stop`.

    Examples:
      wexicon rig start rig.toml
      wexicon rig start masts-rig.toml
    """
    from wexicon.cli.signals import signals_to
    from wexicon.records.trace import recorded
    from wexicon.rigs.rig import read_rig
    from wexicon.rigs.serving import Desk, Server, real_agenda

    standins = read_rig(read_file(path), str(path), real_agenda(), lambda name: recorded(path.parent / name))
    server = Server(standins, lambda text: print_note(f"rig: {text}"))
    desk = Desk(server, path.stem)
    _print_ports([desk.card])
    print_line("serving; Ctrl-C ends it. In another terminal: wexicon rig key UNIT hold, wexicon rig power UNIT cycle")
    try:
        with signals_to(server.stop):
            server.run()
    finally:
        desk.close()


@rig.command()
@json_option
def ports(as_json: bool) -> None:
    """List the ports of running rigs.

    Examples:
      wexicon rig ports
      wexicon rig ports --json
    """
    from wexicon.rigs.control import cards

    running = cards()
    if as_json:
        from wexicon.core.results.listed import RigPort

        served = [(card, unit, port) for card in running for unit, port in card.ports.items()]
        emit_json([RigPort(card.name, unit, card.standins[unit], port) for card, unit, port in served])
    elif running:
        _print_ports(running)
    else:
        print_line("no rig is running; start one with: wexicon rig start FILE")


def _print_ports(cards: Iterable[Card]) -> None:
    rows = [
        (card.name, unit, family, card.ports.get(unit, "(on the shelf)"))
        for card in cards
        for unit, family in card.standins.items()
    ]
    print_table(("rig", "unit", "stand-in", "port"), rows)


@rig.command()
@click.argument("unit")
@click.argument("what", type=click.Choice(["hold", "release"]))
@click.option("--key", "key_name", default="", help="Key, if there are several.")
def key(unit: str, what: str, key_name: str) -> None:
    """Hold or release a key of UNIT.

    Examples:
      wexicon rig key withy-plug hold
      wexicon rig key withy-plug release
    """
    _ask(unit, what, key_name)


@rig.command()
@click.argument("unit")
@click.argument("what", type=click.Choice(["on", "off", "cycle"]))
def power(unit: str, what: str) -> None:
    """Switch UNIT's power on, off, or off and on.

    Examples:
      wexicon rig power withy-plug off
      wexicon rig power withy-plug cycle
    """
    _ask(unit, "power", what)


@rig.command()
@click.argument("port")
@click.argument("unit")
def swap(port: str, unit: str) -> None:
    """Take the module off PORT and put UNIT there.

    Examples:
      wexicon rig swap withy-plug old-ferry-plug
      wexicon rig swap /dev/pts/4 old-ferry-plug

    UNIT is one of the rig's, on the shelf or on a port of its own, which the other one then gets. PORT is a path or the unit
    that is there.
    """
    from wexicon.rigs.control import Request, ask, find_unit

    card, there = find_unit(port)
    ask(card, Request("swap", there, unit.removeprefix(f"{card.name}/")))


@rig.command()
@click.argument("unit")
@click.argument("name")
@click.argument("state", type=click.Choice(["high", "low"]))
def pin(unit: str, name: str, state: str) -> None:
    """Put UNIT's mode pin NAME high or low.

    Examples:
      wexicon rig pin buoy-radio mode0 high
      wexicon rig pin buoy-radio mode0 low
    """
    _ask(unit, "pin", f"{name} {state}")


@rig.command()
@click.argument("unit")
@click.argument("rate", type=click.IntRange(1))
def board(unit: str, rate: int) -> None:
    """Set the far side of the pass-through board in front of UNIT to RATE.

    Examples:
      wexicon rig board withy-plug 9600
      wexicon rig board withy-plug 115200
    """
    _ask(unit, "board", str(rate))


@rig.command()
@click.argument("unit")
def attend(unit: str) -> None:
    """Perform UNIT's attention procedure, as an operator would.

    Examples:
      wexicon rig attend withy-plug
      wexicon rig attend handset
    """
    _ask(unit, "operate", "attention")


def _ask(unit: str, do: str, what: str) -> None:
    from wexicon.rigs.control import Request, ask, find_unit

    card, name = find_unit(unit)
    ask(card, Request(do, name, what))


@rig.command()
@click.argument("name", required=False)
@click.option("--all", "every", is_flag=True, help="Stop all your rigs, also those of other terminals.")
def stop(name: str | None, every: bool) -> None:
    """Stop rig NAME (or process ID); NAME is optional if one runs.

    Examples:
      wexicon rig stop
      wexicon rig stop --all
    """
    from wexicon.rigs.control import Request, ask, cards, find_rig

    found = cards() if every or name is None else find_rig(name)
    if len(found) > 1 and not every:
        several = ", ".join(map(str, found))
        raise CallFault(f"several rigs are running: {several}", hint="Give a name or process ID, or use --all.")
    for card in found:
        ask(card, Request("stop"))
        print_line(f"stopped {card}")
    if not found:
        print_line("no rig is running")
