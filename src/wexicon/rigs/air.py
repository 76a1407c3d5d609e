"""The air: what joins the stand-ins of a rig, and what they find there; a small LoRaWAN network too.

The rule: two stand-ins reach each other when, and only when, both say that their settings allow it; nothing in the air reads a
lexicon. What a host service does is in the rig's file. A LoRaWAN device is admitted, and its frames are taken, only with the
keys that the file has for it; a frame counter that does not grow is refused. Keys are compared, nothing is encrypted.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from math import dist
from typing import Any, NamedTuple, Protocol

import msgspec

from wexicon.core.engineering.radio import log_distance_loss, noise_power
from wexicon.rigs.network import Management, Network
from wexicon.rigs.sky import Sky


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


class RadioFrame(NamedTuple):
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
        self.frames: list[RadioFrame] = []

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
        self.frames.append(RadioFrame(dev_eui, count, port, data))
        return True

    def downlink(self, dev_eui: str) -> tuple[int, bytes] | None:
        """The next downlink to a device: its port and payload."""
        waiting = self._waiting.get(dev_eui)
        if not waiting:
            return None
        port, _, digits = waiting.pop(0).partition(":")
        return int(port), bytes.fromhex(digits)


# How long a transmission is remembered after its end (seconds).
KEPT = 5.0
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


class Client(Protocol):
    """The far end of a simulated connection, as a stand-in sees it."""

    def take(self, data: bytes) -> None: ...

    def hang_up(self) -> None: ...


class ListeningClient(Client, Protocol):
    """A simulated socket that a stand-in can connect to."""

    def connected(self, other: Any) -> bool: ...


class Serving(Protocol):
    """A port at which a stand-in serves."""

    def client(self, made: Client) -> Any | None: ...


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


class Place(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[air.place.UNIT]`: where a unit is, in kilometres east and north of anywhere."""

    east: float = 0.0
    north: float = 0.0


class ReceivedSignal(NamedTuple):
    """How a transmission arrives: its power, and how far it is above the noise."""

    dbm: float
    snr: float


# How everything is heard on a desk.
ON_A_DESK = ReceivedSignal(-71.0, 8.0)
# A transmission is heard though another one is on the air if it is this much stronger (dB).
CAPTURE = 6.0


class Transmission(NamedTuple):
    """One transmission: who sends, from when to when (seconds), on which frequency (hertz), how it is spread (what must agree
    for two to disturb each other), and with which power (dBm)."""

    sender: Member
    begins: float
    ends: float
    frequency: float
    spread: object
    power: float


class AirTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[air]`: what is there besides the stand-ins. `services` are hosts by name: `echo` returns what it is sent,
    `127.0.0.1:PORT` is a real socket of this machine. `place` says where units are: without it all are on a desk, and heard.
    `exponent` is the path-loss exponent, `noise_figure` that of the receivers (dB), `walls` what is between two units (dB), as
    in `"mast, relay" = 12`."""

    access_point: dict[str, AccessPoint] = msgspec.field(default_factory=dict)
    services: dict[str, str] = msgspec.field(default_factory=dict)
    network: Network = Network()
    sky: Sky = Sky()
    management: Management = msgspec.field(default_factory=Management)
    lorawan: LorawanTable = msgspec.field(default_factory=LorawanTable)
    place: dict[str, Place] = msgspec.field(default_factory=dict)
    walls: dict[str, float] = msgspec.field(default_factory=dict)
    exponent: float = 2.0
    noise_figure: float = 6.0


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
        self.lorawan = Lorawan(table.lorawan)
        self.members: list[Member] = []
        self.places = dict(table.place)
        self.exponent, self.noise_figure = table.exponent, table.noise_figure
        self._walls = {frozenset(one.strip() for one in pair.split(",")): loss for pair, loss in table.walls.items()}
        self._transmissions: list[Transmission] = []
        # Simulated sockets that listen, by host and port: only a rehearsal has some.
        self.listeners: dict[tuple[str, int], ListeningClient] = {}
        # The ports at which stand-ins serve. Where all time is virtual, no socket of this machine is opened for them.
        self.served: dict[int, Serving] = {}
        self.simulated = False

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

    def send(self, made: Transmission) -> None:
        """Something is sent: until it has ended, and a little longer, it can disturb others."""
        self._transmissions = [one for one in self._transmissions if one.ends > made.begins - KEPT]
        self._transmissions.append(made)

    def signal(self, made: Transmission, receiver: Member, bandwidth: float) -> ReceivedSignal:
        """How a transmission arrives at a receiver that listens with this bandwidth (hertz)."""
        power = self._arrives(made, receiver)
        return ON_A_DESK if power is None else ReceivedSignal(power, power - noise_power(bandwidth, self.noise_figure))

    def busy(self, listener: Member, frequency: float, now: float) -> bool:
        """Whether another one sends on a frequency now."""
        others = (one for one in self._transmissions if one.sender is not listener and one.frequency == frequency)
        return any(one.begins <= now < one.ends for one in others)

    def disturbed(self, made: Transmission, receiver: Member) -> bool:
        """Whether another transmission was there at the same time, and not much weaker at the receiver."""
        own = self._arrives(made, receiver)
        for other in self._transmissions:
            if other.sender in (made.sender, receiver) or (other.frequency, other.spread) != (
                made.frequency,
                made.spread,
            ):
                continue
            if other.begins < made.ends and made.begins < other.ends:
                there = self._arrives(other, receiver)
                if own is None or there is None or there > own - CAPTURE:
                    return True
        return False

    def level(self, sender: Member, receiver: Member, power: float, frequency: float) -> float:
        """The power that arrives (dBm) of what is sent with `power` on a frequency (hertz)."""
        found = self._level(sender, receiver, power, frequency)
        return ON_A_DESK.dbm if found is None else found

    def _arrives(self, made: Transmission, receiver: Member) -> float | None:
        """The power that arrives (dBm); None on a desk."""
        return self._level(made.sender, receiver, made.power, made.frequency)

    def _level(self, sender: Member, receiver: Member, power: float, frequency: float) -> float | None:
        places = [self.places.get(getattr(one, "name", "")) for one in (sender, receiver)]
        if places[0] is None or places[1] is None:
            return None
        metres = 1000 * dist((places[0].east, places[0].north), (places[1].east, places[1].north))
        names = frozenset(getattr(one, "name", "") for one in (sender, receiver))
        loss = log_distance_loss(max(metres, 0.1), frequency, self.exponent)
        return power - loss - self._walls.get(names, 0.0)

    def names(self) -> list[str]:
        """What a handset sees that scans for Bluetooth."""
        return [name for member in self.members if member.powered and (name := member.visible_name())]

    # -- Wi-Fi --------------------------------------------------------------------------------------------------

    def access_point(self, name: str) -> AccessPoint | None:
        """The strongest access point of that name."""
        found = [point for point in self.access_points if point.name == name]
        return max(found, key=lambda point: point.signal, default=None)

    # -- cellular -----------------------------------------------------------------------------------------------

    def owner(self, number: str) -> Member | None:
        """The module whose SIM has this number, whether it can be reached or not."""
        for member in self.members:
            own = str(member.own.get("number", ""))
            # With or without the + of an international number (3GPP TS 23.040, 9.1.2.5): the same subscriber.
            if own and own.lstrip("+") == number.lstrip("+"):
                return member
        return None

    def subscriber(self, number: str) -> Member | None:
        """The module whose SIM has this number, if it is registered."""
        found = self.owner(number)
        return found if found and found.powered and found.registered() else None
