"""The air: what joins the stand-ins of a rig, and what they find there.

The rule: two stand-ins reach each other when, and only when, both say that their settings allow it; nothing in the air
reads a lexicon. What a host service does is reported by the rig's file.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import Any, Protocol

import msgspec

# Seconds from a byte's leaving one module to its coming out of another.
TRAVEL = 0.02


class Member(Protocol):
    """What the air needs of each stand-in."""

    own: dict[str, object]

    @property
    def powered(self) -> bool: ...

    def reaches(self, other: Any) -> bool: ...

    def from_air(self, data: bytes, sender: Any) -> None: ...

    def after(self, delay: float, action: Callable[[], object]) -> None: ...

    def visible_name(self) -> str: ...

    def registered(self) -> bool: ...


class Listening(Protocol):
    """A simulated socket that a stand-in can connect to."""

    def connected(self, other: Any) -> bool: ...

    def take(self, data: bytes) -> None: ...

    def hang_up(self) -> None: ...


class AccessPoint(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[air.access_point.NAME]`: a Wi-Fi network. `signal` in dBm; no passphrase for an open one."""

    name: str = ""
    passphrase: str = ""
    signal: int = -60
    channel: int = 6

    @property
    def protection(self) -> str:
        """The word for how it is protected."""
        return "locked" if self.passphrase else "open"


class Network(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[air.network]`: a cellular network. `registers_in` seconds; `active_time` and `periodic_update` are what it grants, as
    eight bits, instead of those asked for (empty: as asked); `idle_after` seconds without traffic; `signal` as +CSQ counts."""

    operator: str = "Estuary Mobile"
    code: str = "00101"
    registers_in: float = 8.0
    active_time: str = ""
    periodic_update: str = ""
    idle_after: float = 10.0
    signal: int = 21


class Sky(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[air.sky]`: where a receiver is (degrees), how many satellites it sees, and after how many seconds it has a fix."""

    latitude: float = 51.4821
    longitude: float = -2.9874
    altitude: float = 6.2
    satellites: int = 9
    fix_in: float = 12.0


class Management(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[air.management]`: a device-management server. `reads` and `writes` are the requests it makes of each module that
    attaches, by the path of the object."""

    reads: tuple[str, ...] = ()
    writes: dict[str, str] = msgspec.field(default_factory=dict)


class AirTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[air]`: what is there besides the stand-ins. `services` are hosts by name: `echo` returns what it is sent,
    `127.0.0.1:PORT` is a real socket of this machine."""

    access_point: dict[str, AccessPoint] = msgspec.field(default_factory=dict)
    services: dict[str, str] = msgspec.field(default_factory=dict)
    network: Network = Network()
    sky: Sky = Sky()
    management: Management = msgspec.field(default_factory=Management)


class Air:
    """What all stand-ins of one rig share. `answered` is what the management server was ordered, by message number."""

    def __init__(self, table: AirTable | None = None) -> None:
        table = table or AirTable()
        self.access_points = [
            AccessPoint(point.name or name, point.passphrase, point.signal, point.channel)
            for name, point in table.access_point.items()
        ]
        self.services = dict(table.services)
        self.network = table.network
        self.sky = table.sky
        self.management = table.management
        self.answered: dict[int, str] = {}
        self.members: list[Member] = []
        # Simulated sockets that listen, by host and port: only a rehearsal has some.
        self.listeners: dict[tuple[str, int], Listening] = {}

    # -- radio --------------------------------------------------------------------------------------------------

    def reached(self, sender: Member) -> Iterator[Member]:
        """Those whom a stand-in reaches now: both must be able to."""
        for other in self.members:
            if other is not sender and other.powered and sender.reaches(other) and other.reaches(sender):
                yield other

    def radiate(self, sender: Member, data: bytes) -> int:
        """Sends bytes to all whom the sender reaches; gives how many that are."""
        found = list(self.reached(sender))
        for other in found:
            other.after(TRAVEL, lambda other=other: other.from_air(data, sender))  # type: ignore[misc]
        return len(found)

    def names(self) -> list[str]:
        """What a handset sees that scans for Bluetooth."""
        return [name for member in self.members if member.powered and (name := member.visible_name())]

    # -- Wi-Fi --------------------------------------------------------------------------------------------------

    def access_point(self, name: str) -> AccessPoint | None:
        """The strongest access point of that name."""
        found = [point for point in self.access_points if point.name == name]
        return max(found, key=lambda point: point.signal, default=None)

    # -- cellular -----------------------------------------------------------------------------------------------

    def subscriber(self, number: str) -> Member | None:
        """The module whose SIM has this number, if it is registered."""
        for member in self.members:
            own = str(member.own.get("number", ""))
            # With or without the + of an international number (3GPP TS 23.040, 9.1.2.5): the same subscriber.
            if own and own.lstrip("+") == number.lstrip("+") and member.powered and member.registered():
                return member
        return None
