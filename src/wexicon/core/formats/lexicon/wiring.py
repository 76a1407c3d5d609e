"""How a module is wired (supply, logic level, peak current, pins, lamps), and its pins put together with an adapter's.

    [wiring]
    supply = ["3.0V", "3.6V"]
    level  = "3.3V"
    stands = "3.6V"                     # the most that an input stands, if more than the level and 0.3 V
    peak   = "60mA"
    pins   = { VCC = "supply", GND = "ground", TXD = "data-out", RXD = "data-in", KEY = "in: high for commands" }

    [wiring.lamps.status]
    "blinks slowly" = "it listens to commands"

The rule: it says what a data sheet says, and nothing is sent because of it; what must not be connected is worked out from it.
A pin whose voltage is not known is never called direct.
"""

from __future__ import annotations

import msgspec

from wexicon.core.engineering.serial_lines import Line, data_in, data_out, supplied
from wexicon.core.engineering.topic import parsed, shown
from wexicon.core.formats.toml import Source

# What a pin is.
ROLES = ("supply", "ground", "data-out", "data-in", "out", "in", "open")


class WiringTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[wiring]`: how the module is wired. `supply` is the lowest and the highest voltage, `level` the voltage of its data
    lines, `stands` the most that an input stands, `peak` the highest current. `pins` are its pins by name, each with what it
    is (supply, ground, data-out, data-in, out, in, open), a colon, and what it is for; `lamps` what each lamp means, by what
    it does."""

    supply: tuple[str, str] | None = None
    level: str = ""
    stands: str = ""
    peak: str = ""
    pins: dict[str, str] = msgspec.field(default_factory=dict)
    lamps: dict[str, dict[str, str]] = msgspec.field(default_factory=dict)


class ModulePin(msgspec.Struct, frozen=True):
    """A pin: its name, what it is, and what it is for."""

    name: str
    role: str
    meaning: str = ""


class Wiring(msgspec.Struct, frozen=True):
    """`[wiring]`, checked; volts and amperes, None where it says nothing."""

    supply: tuple[float, float] | None = None
    level: float | None = None
    stands: float | None = None
    peak: float | None = None
    pins: tuple[ModulePin, ...] = ()
    lamps: dict[str, dict[str, str]] = {}

    def lamps_told(self) -> str:
        """What the lamps mean, in one sentence; empty if there is none."""
        return " ".join(
            f"The {lamp} lamp: {', '.join(f'{does} = {means}' for does, means in states.items())}."
            for lamp, states in self.lamps.items()
        )

    def told(self) -> list[tuple[str, str]]:
        """All of it as lines with a heading."""
        made = []
        if self.supply:
            made.append(("supply", f"{shown(self.supply[0], 'V')} to {shown(self.supply[1], 'V')}"))
        for name, value, unit in (
            ("level", self.level, "V"),
            ("inputs stand", self.stands, "V"),
            ("peak", self.peak, "A"),
        ):
            if value is not None:
                made.append((name, shown(value, unit)))
        made += [(f"pin {one.name}", one.role + (f": {one.meaning}" if one.meaning else "")) for one in self.pins]
        for lamp, states in self.lamps.items():
            made.append((f"lamp {lamp}", "; ".join(f"{does} = {means}" for does, means in states.items())))
        return made


def read_wiring(source: Source, table: WiringTable) -> Wiring:
    """The table, checked; what is wrong is complained of at the source."""

    def value(key: str, text: str, unit: str) -> float | None:
        if not text:
            return None
        try:
            found = parsed(text, unit)
        except ValueError as fault:
            source.complain(("wiring", key), str(fault))
            return None
        if found <= 0:
            source.complain(("wiring", key), f"{text!r} is not above 0")
            return None
        return found

    supply = None
    if table.supply:
        low, high = (value("supply", one, "V") for one in table.supply)
        if low is not None and high is not None:
            supply = (low, high)
            if high < low:
                source.complain(("wiring", "supply"), "the highest voltage is below the lowest")
    pins = []
    for name, text in table.pins.items():
        role, _, meaning = (one.strip() for one in text.partition(":"))
        if role not in ROLES:
            source.complain(("wiring", "pins", name), f"{role[:20]!r} is not one of {', '.join(ROLES)}")
        pins.append(ModulePin(name, role, meaning))
    level = value("level", table.level, "V")
    stands = value("stands", table.stands, "V")
    if level is not None and stands is not None and stands < level:
        source.complain(("wiring", "stands"), "an input stands at least the level of its data lines")
    return Wiring(supply, level, stands, value("peak", table.peak, "A"), tuple(pins), dict(table.lamps))


UNKNOWN = "the lexicon does not say its level: look it up"


def connections(wiring: Wiring, adapter_volts: float, gives_amperes: float) -> list[Line]:
    """What each pin of the module goes to at an adapter whose lines and supply have this voltage."""
    return [_line(pin, wiring, adapter_volts, gives_amperes) for pin in wiring.pins]


def _line(pin: ModulePin, wiring: Wiring, volts: float, gives: float) -> Line:
    if pin.role == "ground":
        return Line(pin.name, "GND", "directly, first of all", False)
    if pin.role == "open":
        return Line(pin.name, "nothing", pin.meaning or "left open", False)
    if pin.role == "supply":
        if wiring.supply is None:
            return Line(pin.name, "a supply", "the lexicon does not say which: look it up", True)
        return Line(pin.name, *supplied(volts, wiring.supply, wiring.peak, gives))
    to = {"data-in": "TXD", "data-out": "RXD"}.get(pin.role, pin.meaning or "as you need it")
    if wiring.level is None:
        return Line(pin.name, to, UNKNOWN, True)
    how, careful = (
        data_in(volts, wiring.level, wiring.stands) if pin.role in ("data-in", "in") else data_out(wiring.level, volts)
    )
    return Line(pin.name, to, how, careful)
