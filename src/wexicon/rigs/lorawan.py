"""A small LoRaWAN network in the air of a rig: it knows devices by identifiers and keys, counts frames, and has downlinks.

The rule: a device is let in, and its frames are taken, only with the keys that the rig's file has for it; a frame counter that
does not grow is refused. Nothing is encrypted: keys are compared.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

import msgspec


class Device(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[air.lorawan.device.NAME]`: a device that the network knows, by its `dev_eui`. For activation by join `join_eui` and
    `app_key`; by address `address`, `network_key` and `data_key`. `downlinks` are sent to it, each after an uplink, as
    `"1:6F6B"`: port and payload in hexadecimal."""

    dev_eui: str
    join_eui: str = "0" * 16
    app_key: str = ""
    address: str = ""
    network_key: str = ""
    data_key: str = ""
    downlinks: tuple[str, ...] = ()


class LorawanTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[air.lorawan]`: the devices that it knows. Its first address is 26011F01, counted on for each device that joins."""

    device: dict[str, Device] = msgspec.field(default_factory=dict)


class Frame(NamedTuple):
    """A frame that the network has taken."""

    dev_eui: str
    number: int
    port: int
    data: bytes


class Lorawan:
    """The network. `frames` are those it has taken."""

    def __init__(self, table: LorawanTable) -> None:
        self._devices = {one.dev_eui.upper(): one for one in table.device.values()}
        self._waiting = {eui: list(one.downlinks) for eui, one in self._devices.items()}
        self._joined: dict[str, str] = {}
        self._counts: dict[str, int] = {}
        self.frames: list[Frame] = []

    def joins(self, dev_eui: str, settings: Mapping[str, str]) -> str:
        """The address of a device that is let in; empty if it is not."""
        known = self._devices.get(dev_eui)
        if known is None or (known.join_eui.upper(), known.app_key.upper()) != (
            settings["JOINEUI"],
            settings["APPKEY"],
        ):
            return ""
        self._joined.setdefault(dev_eui, f"{0x26011F01 + len(self._joined):08X}")
        self._counts[dev_eui] = 0
        return self._joined[dev_eui]

    def takes(self, dev_eui: str, settings: Mapping[str, str], count: int, port: int, data: bytes) -> bool:
        """Whether a frame is taken."""
        known = self._devices.get(dev_eui)
        if known is None:
            return False
        if settings["BY"] == "ADDRESS":
            right = (known.address, known.network_key, known.data_key) == tuple(
                settings[name] for name in ("DEVADDR", "NWKKEY", "DATKEY")
            )
        else:
            right = self._joined.get(dev_eui) == settings["DEVADDR"]
        if not right or count <= self._counts.get(dev_eui, 0):
            return False
        self._counts[dev_eui] = count
        self.frames.append(Frame(dev_eui, count, port, data))
        return True

    def downlink(self, dev_eui: str) -> tuple[int, bytes] | None:
        """The next downlink to a device: its port and payload."""
        waiting = self._waiting.get(dev_eui)
        if not waiting:
            return None
        port, _, digits = waiting.pop(0).partition(":")
        return int(port), bytes.fromhex(digits)
