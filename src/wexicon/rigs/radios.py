"""What Bluetooth and LoRa stand-ins share: who joins whom, how long a packet takes on the air, who hears it.

The rule: a leader joins the follower that it is bound to, or any, if both know the same PIN, which is asked for if one of both
asks. A joined module passes on everything and is invisible to others; a restart ends the join, and the other side gets an
event. LoRa's time on air and the signal that is needed follow from spreading factor and bandwidth; on a desk the signal is
always enough.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from wexicon.core.engineering.radio import REQUIRED_SNR, time_on_air
from wexicon.rigs.air import ReceivedSignal, Transmission
from wexicon.rigs.standin import StandIn

SEEKS_EVERY = 3.0
# Transmit power and sensitivity in dBm, and the middle of the band in hertz.
POWER, SENSITIVITY, BAND = 4, -85, 2.44e9


class BluetoothModule(StandIn):
    """`joined` is the other side. Each module tells by the methods below how its own settings stand."""

    joined: BluetoothModule | None = None

    def leads(self) -> bool:
        """Whether it is a leader."""
        return False

    def listens(self) -> bool:
        """Whether it can be joined now, or seek: not while it takes commands."""
        return True

    def pin(self) -> str:
        """What both sides must know."""
        raise NotImplementedError

    def mate(self) -> str:
        """The address that a leader joins, in hexadecimal digits, the first byte first."""
        return ""

    def connects(self) -> str:
        """To whom a leader connects at power-up: `bound` to the mate that it keeps, `any` that it finds, or `none`."""
        return "bound"

    def asks(self) -> bool:
        """Whether it asks for the PIN."""
        return True

    def called(self) -> str:
        """Its name, as others see it."""
        raise NotImplementedError

    def seek(self) -> bool:
        """A leader joins whom it connects to by itself; whether it is joined."""
        how = self.connects()
        if self.leads() and not self.joined and how != "none":
            self.join("" if how == "any" else self.mate())
        return self.joined is not None

    def join(self, address: str) -> bool:
        """Joins the follower of an address, or any (""); whether it is joined."""
        for other in self.air.members:
            if not isinstance(other, BluetoothModule) or other is self or not other.powered or not self.hears(other):
                continue
            if address in ("", other.own.get("address")) and other.accept(self, self.pin()):
                self.joined = other
                for one in (self, other):
                    one.tell_joined()
                break
        return self.joined is not None

    def level(self, other: BluetoothModule) -> float:
        """How strong another module is here, in dBm."""
        return self.air.level(other, self, POWER, BAND)

    def hears(self, other: BluetoothModule) -> bool:
        """Whether another module is near enough: both send with the same power."""
        return self.level(other) >= SENSITIVITY

    def stopped(self) -> None:
        self.part()

    def seen(self) -> list[BluetoothModule]:
        """The modules that a scan finds, the strongest first."""
        others = [
            one for one in self.air.members if isinstance(one, BluetoothModule) and one is not self and one.powered
        ]
        return sorted((one for one in others if one.visible_name() and self.hears(one)), key=self.level, reverse=True)

    def tell_joined(self) -> None:
        """What it says to its host when it has been joined."""

    def tell_parted(self) -> None:
        """What it says to its host when the other side has gone."""

    def keep_seeking(self) -> None:
        """A leader goes on seeking until it is joined or takes commands."""
        if self.leads() and self.listens() and not self.seek():
            self.after(SEEKS_EVERY, self.keep_seeking)

    def accept(self, leader: BluetoothModule, pin: str) -> bool:
        """A leader wants to join."""
        wrong = (self.asks() or leader.asks()) and pin != self.pin()
        if self.joined or not self.listens() or self.leads() or wrong:
            return False
        self.joined = leader
        return True

    def part(self) -> None:
        """Lets go of the other side, and is released."""
        other, self.joined = self.joined, None
        if other and other.joined is self:
            other.joined = None
            if other.powered:
                other.tell_parted()
                other.after(1.0, other.keep_seeking)

    def visible_name(self) -> str:
        return "" if self.joined or self.leads() or not self.listens() else self.called()

    def reaches(self, other: StandIn) -> bool:
        return self.joined is other


# Bytes that are sent with each packet: addresses, network, sync word, sum.
OVERHEAD = 8
# How long a receiver takes to pass a packet on (seconds).
PASSES_ON = 0.03


class Radio(NamedTuple):
    """How a module's radio is set: frequency and bandwidth in hertz, power in dBm."""

    frequency: float
    spreading: int
    bandwidth: float
    power: float


class LoraModule(StandIn):
    """A module with a LoRa radio. `reaches` compares all that must agree but addresses."""

    def radio(self) -> Radio:
        """How its radio is set now."""
        raise NotImplementedError

    def transmit(self, size: int, received: Callable[[LoraModule, ReceivedSignal], object]) -> float:
        """Sends a packet of `size` bytes; gives for how long (seconds). `received` is called for each module that hears it."""
        radio, now = self.radio(), self.agenda.now
        takes = time_on_air(OVERHEAD + size, radio.spreading, radio.bandwidth)
        spread = (radio.spreading, radio.bandwidth)
        made = Transmission(self, now, now + takes, radio.frequency, spread, radio.power)
        self.air.send(made)
        for other in self.air.reached(self):
            if isinstance(other, LoraModule):
                heard = lambda other=other: other.transmitted(made, received)  # noqa: E731
                other.after(takes + PASSES_ON, heard)
        return takes

    def transmitted(self, made: Transmission, received: Callable[[LoraModule, ReceivedSignal], object]) -> None:
        """Another module's packet has ended."""
        radio = self.radio()
        signal = self.air.signal(made, self, radio.bandwidth)
        if not self.air.disturbed(made, self) and signal.snr >= REQUIRED_SNR[radio.spreading]:
            received(self, signal)
