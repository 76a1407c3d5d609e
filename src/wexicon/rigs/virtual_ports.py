"""Puts the stand-ins of a rig on ports in virtual time: each unit answers at `virtual://NAME`, or by its name alone.

The rule: these are ports like any other; only link and clock differ. They exist in this process alone, while the block lasts.
If two rigs have a unit of the same name, the later one answers.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager

from wexicon.core.faults import LinkFault
from wexicon.core.tuning import Tuning
from wexicon.links.port import LINKS, VIRTUAL
from wexicon.links.sockets import SIMULATED, parsed
from wexicon.links.virtual import VirtualClock, VirtualLink, VirtualSocket
from wexicon.rigs import control
from wexicon.rigs.air import Air
from wexicon.rigs.rig import Rig

SCHEME = "virtual"


def simulated_socket(air: Air, clock: VirtualClock, url: str) -> VirtualSocket:
    """A socket in virtual time: for stand-ins to connect to, or to a port at which one of them serves. Raises LinkFault."""
    scheme, host, port = parsed(url)
    link = VirtualSocket(url, clock)
    if scheme == "listen":
        air.listeners[host, port] = link
    elif port not in air.served:
        told = LinkFault("nothing answers there", where=url, hint="In a rehearsal only stand-ins serve.")
        told.refused = True
        raise told
    elif not link.connected(air.served[port].client(link)):
        link.hang_up()
    return link


@contextmanager
def on_virtual_ports(rig: Rig) -> Iterator[dict[str, str]]:
    """The ports of the rig's units, by their names."""
    clock = VirtualClock(rig.agenda)
    before = LINKS.get(SCHEME) if SCHEME in LINKS else None

    def opened(port: str, tuning: Tuning) -> VirtualLink:
        name = port.removeprefix(f"{SCHEME}://")
        if name not in rig.units and before:
            return before(port, tuning)  # type: ignore[return-value]
        try:
            uart = rig.unit(name).standin.uart
        except ValueError as fault:
            raise LinkFault(str(fault), where=port) from None
        # It is called as the unit is.
        link = VirtualLink(name, clock, uart, tuning)
        uart.to_host = link.take
        return link

    def work(request: control.Request) -> None:
        rig.unit(request.unit).work(request.do, request.what)

    ports = {name: f"{SCHEME}://{name}" for name in rig.units}
    standins = {name: unit.standin.family for name, unit in rig.units.items()}
    card = control.Card("virtual", rig.title, "", os.getpid(), ports, standins)

    def socket(url: str) -> VirtualSocket:
        return simulated_socket(rig.air, clock, url)

    named = dict(VIRTUAL)
    rig.air.simulated = True
    SIMULATED.append(socket)
    LINKS.add(SCHEME, opened)
    VIRTUAL.update(ports)
    control.IN_PROCESS.insert(0, (card, work))
    try:
        yield ports
    finally:
        SIMULATED.remove(socket)
        control.IN_PROCESS.remove((card, work))
        LINKS.put_back(SCHEME, before)
        VIRTUAL.clear()
        VIRTUAL.update(named)
