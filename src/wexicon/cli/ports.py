"""`wexicon ports`: the serial ports of this machine, with what the operating system knows, and those of running rigs."""

from __future__ import annotations

import time

import click
import msgspec

from wexicon.cli.show import json_option, print_json, print_line, print_table


class PortInfo(msgspec.Struct, frozen=True):
    """One port, as far as the operating system or a rig tells."""

    port: str
    what: str = ""
    maker: str = ""
    serial: str = ""
    usb: str = ""
    unit: str = ""


def found_ports() -> list[PortInfo]:
    """Every port there is now."""
    from serial.tools.list_ports import comports

    from wexicon.rig.control import cards

    found = []
    for port in sorted(comports()):
        usb = f"{port.vid:04x}:{port.pid:04x}" if port.vid is not None else ""
        what = port.product or (port.description if port.description != "n/a" else "") or ""
        found.append(PortInfo(port.device, what, port.manufacturer or "", port.serial_number or "", usb))
    for card in cards():
        for unit, name in card.ports.items():
            found.append(PortInfo(name, f"stand-in {card.standins[unit]}", f"rig {card.name}", unit=unit))
    return found


@click.command()
@click.option("--watch", is_flag=True, help="Go on, and tell which port has just appeared or gone.")
@json_option
def ports(watch: bool, as_json: bool) -> None:
    """List the serial ports of this machine, and those of running rigs."""
    seen = found_ports()
    if as_json and not watch:
        print_json(seen)
        return
    if not as_json:
        _print(seen)
    if watch:
        _watch(seen, as_json)


def _print(found: list[PortInfo]) -> None:
    if not found:
        print_line("no serial port here; `wexicon rig start` makes some with stand-ins on them")
        return
    columns = ("port", "what", "maker", "serial number", "USB", "unit")
    rows = [(p.port, p.what, p.maker, p.serial, p.usb, p.unit) for p in found]
    used = [i for i in range(len(columns)) if i == 0 or any(row[i] for row in rows)]
    print_table([columns[i] for i in used], [[row[i] for i in used] for row in rows])


def _watch(seen: list[PortInfo], as_json: bool) -> None:
    if not as_json:
        click.echo("watching; Ctrl-C ends it", err=True)
    while True:
        time.sleep(0.3)
        now = found_ports()
        for change, some, others in (("appeared", now, seen), ("gone", seen, now)):
            for port in some:
                if port in others:
                    continue
                if as_json:
                    click.echo(msgspec.json.encode({"change": change, **msgspec.structs.asdict(port)}).decode())
                else:
                    print_line(
                        f"{time.strftime('%H:%M:%S')}  {change:8}  {port.port}  {port.what} {port.unit}".rstrip()
                    )
        seen = now
