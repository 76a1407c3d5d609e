"""What goes to what between an adapter and a module, what needs a divider, and what would be damaged.

The rule: a connection that may damage a pin is never called direct; limits that are not known are said to be assumed.
"""

from __future__ import annotations

from typing import NamedTuple

from wexicon.core.engineering import electric
from wexicon.core.engineering.quantities import shown

# What a USB port gives at most (USB 2.0), and the high level of a TTL input.
USB_GIVES, TTL_HIGH = 0.5, 2.0
# With larger resistors the capacitance of a wire rounds the edges of a fast UART.
FAST_ENOUGH = 10e3


class Line(NamedTuple):
    """A pin of the module, what it goes to at the adapter, how, and whether care is needed."""

    pin: str
    to: str
    how: str
    careful: bool


def data_in(adapter_volts: float, level: float, stands: float | None) -> tuple[str, bool]:
    """How the adapter's TXD reaches an input of the module, and whether care is needed."""
    takes = electric.cmos_level(level)
    takes = takes._replace(stands=stands if stands is not None else takes.stands)
    fit = electric.drives(electric.cmos_level(adapter_volts), takes)
    if fit.damages:
        best = electric.divider_pairs(adapter_volts, level, highest=FAST_ENOUGH)[0]
        divider = f"{shown(best.upper, 'Ω')} in series, {shown(best.lower, 'Ω')} to ground: {shown(best.volts, 'V')}"
        return f"divider, {divider}; directly it would be damaged: it stands {shown(takes.stands, 'V')}", True
    if not fit.drives:
        return f"level shifter: it needs {shown(takes.takes_high, 'V')} for high", True
    return "directly", False


def data_out(level: float, adapter_volts: float) -> tuple[str, bool]:
    """How an output of the module reaches the adapter's RXD, and whether care is needed."""
    fit = electric.drives(electric.cmos_level(level), electric.cmos_level(adapter_volts))
    if fit.damages:
        best = electric.divider_pairs(level, adapter_volts, highest=FAST_ENOUGH)[0]
        return f"divider, {shown(best.upper, 'Ω')} in series, {shown(best.lower, 'Ω')} to ground", True
    if fit.drives:
        return "directly", False
    gives = electric.cmos_level(level).gives_high
    needs = electric.cmos_level(adapter_volts).takes_high
    if gives >= TTL_HIGH:
        told = f"directly if the adapter has TTL inputs ({shown(TTL_HIGH, 'V')}); else a level shifter"
        return f"{told}: a CMOS input of {shown(adapter_volts, 'V')} needs {shown(needs, 'V')}", True
    return f"level shifter: the adapter needs {shown(needs, 'V')} for high, the module gives {shown(gives, 'V')}", True


def supplied(
    adapter_volts: float, supply: tuple[float, float], peak: float | None, gives: float = USB_GIVES
) -> tuple[str, str, bool]:
    """What feeds the module, how, and whether care is needed; `gives` is the most that the adapter gives (amperes)."""
    enough = peak is None or peak <= gives
    if supply[0] <= adapter_volts <= supply[1] and enough:
        return "its supply", "directly", False
    if supply[0] <= adapter_volts <= supply[1]:
        told = f"the module takes {shown(peak or 0.0, 'A')} at its peak, the adapter gives {shown(gives, 'A')}"
        return "a supply of its own", told, True
    middle = (supply[0] + supply[1]) / 2
    current = f" that gives {shown(peak, 'A')}" if peak else ""
    wrong = "it would be damaged" if adapter_volts > supply[1] else "that is too little"
    return "a regulator", f"for {shown(middle, 'V')}{current}; {shown(adapter_volts, 'V')} directly: {wrong}", True
