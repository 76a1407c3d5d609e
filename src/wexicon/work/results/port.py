"""One port of this machine, as `wexicon ports` reports it.

The rule: what cannot be known is empty, never guessed.
"""

from __future__ import annotations

import msgspec


class PortInfo(msgspec.Struct, frozen=True):
    """One port: its path or URL, what it is, its maker, its USB serial number and ids, a path that stays the same (if the
    system has one), the rig's unit behind it, its given name, and the program that has it open. `key` identifies it."""

    port: str
    what: str = ""
    maker: str = ""
    serial: str = ""
    usb: str = ""
    stable: str = ""
    unit: str = ""
    name: str = ""
    used_by: str = ""
    key: str = ""
