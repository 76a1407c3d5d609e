"""What the LoRa stand-ins share: a packet takes its time on the air, and is heard if it is strong enough and alone there.

The rule: time on air and the signal that is needed follow from spreading factor and bandwidth. On a desk it is always enough.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import NamedTuple

from wexicon.core.engineering.radio import REQUIRED_SNR, time_on_air
from wexicon.rigs.air import Signal, Transmission
from wexicon.rigs.standin import StandIn

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

    def transmit(self, size: int, received: Callable[[LoraModule, Signal], object]) -> float:
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

    def transmitted(self, made: Transmission, received: Callable[[LoraModule, Signal], object]) -> None:
        """Another module's packet has ended."""
        radio = self.radio()
        signal = self.air.signal(made, self, radio.bandwidth)
        if not self.air.disturbed(made, self) and signal.snr >= REQUIRED_SNR[radio.spreading]:
            received(self, signal)
