"""`wexicon ports`: the serial ports of this machine, with what the operating system knows, and those of running rigs."""

from __future__ import annotations

import time
from typing import TYPE_CHECKING

import click
import msgspec

from wexicon.cli.help import Command
from wexicon.cli.show import emit_json, json_option, print_line, print_note, print_table
from wexicon.core.text import visible

if TYPE_CHECKING:
    from wexicon.core.results.listed import PortInfo

COLUMNS = ("port", "name", "what", "maker", "serial number", "USB", "unit", "in use by", "stable path")


@click.command(cls=Command)
@click.option("--watch", is_flag=True, help="Keep running; report ports that appear or disappear.")
@click.option("--name", "pair", metavar="NAME=PORT", help="Give PORT a name that is valid wherever PORT is.")
@click.option("--forget", metavar="NAME", help="Remove a port name.")
@json_option
def ports(watch: bool, pair: str | None, forget: str | None, as_json: bool) -> None:
    """List the serial ports of this machine, and those of running rigs.

    Examples:
      wexicon ports
      wexicon ports --name relay=/dev/ttyUSB0

    A port can be named by its path, a URL (socket://HOST:PORT, rfc2217://HOST:PORT), its USB serial number, a name that it
    was given here, or the unit of a running rig.
    """
    from wexicon.work.contact.ports import forget_name, found_ports, name_port

    if pair or forget:
        from wexicon.cli.options import split_pairs

        for name, port in split_pairs([pair] if pair else []).items():
            print_line(f"{name} stands for {visible(name_port(name, port))}")
        if forget:
            forget_name(forget)
            print_line(f"{forget} is no longer the name of a port")
        return
    seen = found_ports()
    if as_json and not watch:
        emit_json(seen)
        return
    if not as_json:
        _print(seen)
    if watch:
        _watch(seen, as_json)


def _print(found: list[PortInfo]) -> None:
    if not found:
        print_line("no serial port found; `wexicon rig start` serves stand-ins on virtual ports")
        return
    rows = [(p.port, p.name, p.what, p.maker, p.serial, p.usb, p.unit, p.used_by, p.stable) for p in found]
    used = [i for i in range(len(COLUMNS)) if i == 0 or any(row[i] for row in rows)]
    print_table([COLUMNS[i] for i in used], [[row[i] for i in used] for row in rows])


def _watch(seen: list[PortInfo], as_json: bool) -> None:
    from wexicon.core.results.listed import PortChange
    from wexicon.work.contact.ports import found_ports

    if not as_json:
        print_note("watching; Ctrl-C ends it")
    known = {port.port: port for port in seen}
    while True:
        time.sleep(0.3)
        now = {port.port: port for port in found_ports()}
        for change, some, others in (("appeared", now, known), ("gone", known, now)):
            for port in (some[path] for path in some if path not in others):
                if as_json:
                    emit_json(PortChange(**msgspec.structs.asdict(port), change=change), indent=0)
                else:
                    told = " ".join(visible(word) for word in (port.name, port.what, port.serial, port.unit) if word)
                    print_line(f"{time.strftime('%H:%M:%S')}  {change:8}  {port.port}  {told}".rstrip())
        known = now
