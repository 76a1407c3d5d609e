"""The air: what joins the stand-ins of a rig, and what they find there.

The rule: two stand-ins reach each other when, and only when, their settings allow it; nothing in the air reads a lexicon.
"""

from __future__ import annotations

import msgspec


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


class AirTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[air]`: what is there besides the stand-ins. `services` are hosts by name and what they do: echo gives back what
    it is sent."""

    access_point: dict[str, AccessPoint] = {}
    services: dict[str, str] = {}


class Air:
    """What all stand-ins of one rig share."""

    def __init__(self, table: AirTable | None = None) -> None:
        table = table or AirTable()
        self.access_points = [
            AccessPoint(point.name or name, point.passphrase, point.signal, point.channel)
            for name, point in table.access_point.items()
        ]
        self.services = dict(table.services)

    def access_point(self, name: str) -> AccessPoint | None:
        """The strongest access point of that name."""
        found = [point for point in self.access_points if point.name == name]
        return max(found, key=lambda point: point.signal, default=None)
