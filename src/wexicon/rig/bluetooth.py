"""What the Bluetooth stand-ins share: a leader joins the follower whose address it keeps, if both know the same PIN.

The rule: a joined module passes on everything and is invisible to others; a restart ends the join.
"""

from __future__ import annotations

from wexicon.rig.standin import StandIn

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

    def called(self) -> str:
        """Its name, as others see it."""
        raise NotImplementedError

    def seek(self) -> bool:
        """A leader joins the follower whose address it keeps; whether it is joined."""
        if self.leads() and not self.joined:
            for other in self.air.members:
                if not isinstance(other, BluetoothModule) or not other.powered or not self.hears(other):
                    continue
                if other.own.get("address") == self.mate():
                    self.joined = other if other.accept(self, self.pin()) else None
            if self.joined:
                for one in (self, self.joined):
                    one.tell_joined()
        return self.joined is not None

    def level(self, other: BluetoothModule) -> float:
        """How strong another module is here, in dBm."""
        return self.air.level(other, self, POWER, BAND)

    def hears(self, other: BluetoothModule) -> bool:
        """Whether another module is near enough: both send with the same power."""
        return self.level(other) >= SENSITIVITY

    def seen(self) -> list[BluetoothModule]:
        """The modules that a scan finds, the strongest first."""
        others = [
            one for one in self.air.members if isinstance(one, BluetoothModule) and one is not self and one.powered
        ]
        return sorted((one for one in others if one.visible_name() and self.hears(one)), key=self.level, reverse=True)

    def tell_joined(self) -> None:
        """What it says to its host when it has been joined."""

    def keep_seeking(self) -> None:
        """A leader goes on seeking until it is joined or takes commands."""
        if self.leads() and self.listens() and not self.seek():
            self.after(SEEKS_EVERY, self.keep_seeking)

    def accept(self, leader: BluetoothModule, pin: str) -> bool:
        """A leader wants to join."""
        if self.joined or not self.listens() or self.leads() or pin != self.pin():
            return False
        self.joined = leader
        return True

    def part(self) -> None:
        """Lets go of the other side, and is released."""
        other, self.joined = self.joined, None
        if other and other.joined is self:
            other.joined = None

    def visible_name(self) -> str:
        return "" if self.joined or self.leads() or not self.listens() else self.called()

    def reaches(self, other: StandIn) -> bool:
        return self.joined is other
