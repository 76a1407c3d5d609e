"""Electric calculations at a module's pins and supply: dividers of standard resistors, logic levels, LEDs, hold-up, batteries.

The rule: volts, amperes, ohms, farads, watts, seconds. Standard values are the E series of IEC 60063; formulas are those of any
textbook (Ohm, Kirchhoff, the charge of a capacitor).
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import NamedTuple

# IEC 60063: the values of a decade.
SERIES: dict[str, tuple[float, ...]] = {
    "E12": (1.0, 1.2, 1.5, 1.8, 2.2, 2.7, 3.3, 3.9, 4.7, 5.6, 6.8, 8.2),
    "E24": (
        *(1.0, 1.1, 1.2, 1.3, 1.5, 1.6, 1.8, 2.0, 2.2, 2.4, 2.7, 3.0),
        *(3.3, 3.6, 3.9, 4.3, 4.7, 5.1, 5.6, 6.2, 6.8, 7.5, 8.2, 9.1),
    ),
}


class Pair(NamedTuple):
    """Two resistors as a divider: `upper` from the input to the output, `lower` from there to ground (ohms); the output
    (volts), its error as a share, and the current (amperes)."""

    upper: float
    lower: float
    volts: float
    error: float
    amperes: float


def standard_values(series: str, lowest: float, highest: float) -> list[float]:
    """The values of a series from `lowest` to `highest`, in ohms."""
    decades = range(-1, 8)
    return [
        value for ten in decades for one in SERIES[series] if lowest <= (value := round(one * 10.0**ten, 3)) <= highest
    ]


def divided(volts: float, upper: float, lower: float, load: float | None = None) -> float:
    """The output of a divider in volts; `load` is what hangs on it (ohms)."""
    low = lower if load is None else lower * load / (lower + load)
    return volts * low / (upper + low)


def divider_pairs(
    volts: float, wanted: float, series: str = "E24", lowest: float = 1e3, highest: float = 100e3, most: int = 5
) -> list[Pair]:
    """The pairs that come nearest to a wanted output, the best first; of those that are alike the one with less current.
    Raises ValueError unless the output is between 0 and the input."""
    if not 0 < wanted < volts:
        raise ValueError("the output is above 0 V and below the input")
    values = standard_values(series, lowest, highest)
    found = []
    for lower in values:
        exact = lower * (volts / wanted - 1)
        for upper in sorted(values, key=lambda one: abs(one - exact))[:2]:
            out = divided(volts, upper, lower)
            found.append(Pair(upper, lower, out, out / wanted - 1, volts / (upper + lower)))
    found.sort(key=lambda one: (round(abs(one.error), 6), one.amperes))
    return found[:most]


class Level(NamedTuple):
    """What a side of a line has: its supply, the highest low and the lowest high that it gives, and that it needs (volts);
    the most that its input stands."""

    supply: float
    gives_low: float
    gives_high: float
    takes_low: float
    takes_high: float
    stands: float


def cmos_level(supply: float) -> Level:
    """A CMOS side with a supply: it needs below 0.3 and above 0.7 of it, gives 0.4 V of the rails at a small load (the usual
    limits of data sheets; JESD8 has them for each supply), and stands 0.3 V more than its supply."""
    return Level(supply, 0.4, supply - 0.4, 0.3 * supply, 0.7 * supply, supply + 0.3)


class Fit(NamedTuple):
    """Whether an output drives an input: `drives` and how much is left at low and high (volts), `damages` if it is above what
    the input stands."""

    drives: bool
    low_margin: float
    high_margin: float
    damages: bool


def drives(output: Level, input_: Level) -> Fit:
    """Whether one side's output drives the other's input."""
    low, high = input_.takes_low - output.gives_low, output.gives_high - input_.takes_high
    return Fit(low >= 0 and high >= 0, low, high, output.supply > input_.stands)


def led_resistor(supply: float, forward_volts: float, amperes: float) -> tuple[float, float]:
    """The resistor of an LED in ohms, and the power in it in watts. Raises ValueError if the supply is not above the LED's
    voltage."""
    if supply <= forward_volts or amperes <= 0:
        raise ValueError("the supply is above the LED's voltage, and the current above 0 A")
    over = supply - forward_volts
    return over / amperes, over * amperes


def next_standard(ohms: float, series: str = "E12") -> float:
    """The lowest standard value that is not below this. Raises ValueError beyond 100 megohms."""
    found = [one for one in standard_values(series, 0.1, 1e8) if one >= ohms * (1 - 1e-9)]
    if not found:
        raise ValueError("no standard value is that high")
    return found[0]


def hold_up_capacitor(amperes: float, seconds: float, drop_volts: float, supplied_amperes: float = 0.0) -> float:
    """The capacitor in farads from which a burst takes what the supply does not give, while it drops by `drop_volts`:
    C = (I - Is) t / dU. Raises ValueError unless the drop is above 0."""
    if drop_volts <= 0:
        raise ValueError("the drop is above 0 V")
    return max(0.0, amperes - supplied_amperes) * seconds / drop_volts


class PowerState(NamedTuple):
    """What a module does in each interval: its current (amperes) and how long it lasts (seconds)."""

    name: str
    amperes: float
    seconds: float


def mean_current(states: Iterable[PowerState], rest_amperes: float, interval_s: float) -> float:
    """The mean current of states that come once in an interval, with the rest at another current. Raises ValueError if the
    states take longer than the interval."""
    found = list(states)
    busy = sum(one.seconds for one in found)
    if busy > interval_s:
        raise ValueError(f"the states take {busy:g} s, and the interval is {interval_s:g} s")
    charge = sum(one.amperes * one.seconds for one in found)
    return (charge + rest_amperes * (interval_s - busy)) / interval_s


HOURS_A_YEAR = 8766.0


def battery_life(
    capacity_ah: float, amperes: float, self_discharge_percent_a_year: float = 0.0, usable_percent: float = 100.0
) -> float:
    """How many hours a battery lasts. Self-discharge is a constant current that takes this share of the capacity in a year
    (365.25 days). Raises ValueError if nothing discharges it."""
    lost = capacity_ah * self_discharge_percent_a_year / 100 / HOURS_A_YEAR
    if amperes + lost <= 0:
        raise ValueError("nothing discharges the battery")
    return capacity_ah * usable_percent / 100 / (amperes + lost)


def charge_by_state(states: Sequence[PowerState], rest_amperes: float, interval_s: float) -> list[tuple[str, float]]:
    """The share of each state in the charge of an interval, the rest last."""
    whole = mean_current(states, rest_amperes, interval_s) * interval_s
    rest = rest_amperes * (interval_s - sum(one.seconds for one in states))
    return [(one.name, one.amperes * one.seconds / whole) for one in states] + [("rest", rest / whole)]
