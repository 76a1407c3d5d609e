"""A module's pins and an adapter's, put together: each pin of `[wiring]`, what it goes to, and how.

The rule: a pin whose voltage is not known is never called direct.
"""

from __future__ import annotations

from wexicon.core.engineering.connecting import Line, data_in, data_out, supplied
from wexicon.core.formats.lexicon.wiring import Pin, Wiring

UNKNOWN = "the lexicon does not say its level: look it up"


def connections(wiring: Wiring, adapter_volts: float, gives_amperes: float) -> list[Line]:
    """What each pin of the module goes to at an adapter whose lines and supply have this voltage."""
    return [_line(pin, wiring, adapter_volts, gives_amperes) for pin in wiring.pins]


def _line(pin: Pin, wiring: Wiring, volts: float, gives: float) -> Line:
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
