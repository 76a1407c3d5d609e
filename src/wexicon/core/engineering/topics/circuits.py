"""Topics of the circuit around a module: dividers, logic levels, LEDs, supply and hold-up, battery life.

The rule: parts are standard values, and what is bought is said beside what was worked out.
"""

from __future__ import annotations

from itertools import pairwise
from typing import Annotated

from wexicon.core.engineering import electric
from wexicon.core.engineering.topic import Answer, Arg, CalcFault, Topic, parsed, shown

Series = Annotated[str, Arg("series of the resistors", choices=("E12", "E24"))]
# What a USB port gives before and after it is asked (USB 2.0).
USB_LOW, USB_HIGH = 0.1, 0.5


def divider(
    supply: Annotated[float, Arg("voltage at the input", "V", 0.1, 1000)],
    wanted: Annotated[float, Arg("voltage at the output", "V", 0.01, 1000)],
    series: Series = "E24",
    lowest: Annotated[float, Arg("smallest resistor", "Ω", 1, 1e7)] = 1e3,
    highest: Annotated[float, Arg("largest resistor", "Ω", 1, 1e7)] = 100e3,
    load: Annotated[float, Arg("what hangs on the output", "Ω", 1, 1e12)] = -1.0,
) -> Answer:
    """A voltage divider of standard resistors: the pairs that come nearest, with error and current."""
    answer = Answer()
    pairs = electric.divider_pairs(supply, wanted, series, lowest, highest)
    if not pairs:
        raise CalcFault("no pair of standard values lies between lowest and highest")
    rows = []
    for one in pairs:
        loaded = electric.divided(supply, one.upper, one.lower, load if load > 0 else None)
        rows.append(
            (
                shown(one.upper, "Ω"),
                shown(one.lower, "Ω"),
                shown(loaded, "V"),
                f"{(loaded / wanted - 1) * 100:+.2f} %",
                shown(one.amperes, "A"),
            )
        )
    answer.table(("upper", "lower", "output", "error", "current"), rows)
    best = pairs[0]
    answer.give("upper", best.upper, "Ω")
    answer.give("lower", best.lower, "Ω")
    answer.step(f"output = {shown(supply, 'V')} x lower / (upper + lower)")
    answer.note("a divider brings a signal down, and is no supply; fast signals want small resistors")
    return answer


def levels(
    output: Annotated[float, Arg("supply of the side that sends", "V", 0.5, 30)],
    input: Annotated[float, Arg("supply of the side that receives", "V", 0.5, 30)],
    stands: Annotated[float, Arg("the most that its input stands, if more than its supply", "V", 0.5, 60)] = -1.0,
    takes_high: Annotated[float, Arg("what its input needs for high, if not 0.7 of its supply", "V", 0.1, 30)] = -1.0,
) -> Answer:
    """Logic levels compared: whether an output drives an input, with what margin, and whether it damages it.

    CMOS limits are assumed: below 0.3 and above 0.7 of the supply at the input, 0.4 V from the rails at the output.
    """
    answer = Answer()
    sends, takes = electric.cmos_level(output), electric.cmos_level(input)
    takes = takes._replace(
        stands=stands if stands > 0 else takes.stands, takes_high=takes_high if takes_high > 0 else takes.takes_high
    )
    found = electric.drives(sends, takes)
    answer.give("drives it", found.drives)
    answer.give("margin at high", found.high_margin, "V")
    answer.give("margin at low", found.low_margin, "V")
    answer.give("damages it", found.damages)
    answer.step(f"high: gives {shown(sends.gives_high, 'V')}, needs {shown(takes.takes_high, 'V')}")
    answer.step(f"low: gives {shown(sends.gives_low, 'V')}, needs at most {shown(takes.takes_low, 'V')}")
    answer.step(f"the input stands {shown(takes.stands, 'V')}")
    if found.damages:
        answer.note(f"use a divider: wexicon calc divider supply={output:g}V wanted={input:g}V")
    elif not found.drives:
        answer.note("use a level shifter")
    return answer


def led(
    supply: Annotated[float, Arg("supply", "V", 0.5, 100)],
    current: Annotated[float, Arg("current of the LED", "A", 1e-5, 2)] = 0.005,
    forward: Annotated[float, Arg("its voltage: about 1.8 red, 2.1 green, 3 blue or white", "V", 0.5, 20)] = 2.0,
    series: Series = "E12",
) -> Answer:
    """The resistor of an LED, as a standard value, with current and power."""
    answer = Answer()
    exact, _ = electric.led_resistor(supply, forward, current)
    bought = electric.next_standard(exact, series)
    amperes = (supply - forward) / bought
    answer.give("resistor", bought, "Ω")
    answer.give("current", amperes, "A")
    answer.give("power in it", (supply - forward) * amperes, "W")
    answer.step(f"({shown(supply, 'V')} - {shown(forward, 'V')}) / {shown(current, 'A')} = {shown(exact, 'Ω')}")
    return answer


def supply(
    peak: Annotated[float, Arg("peak current of the module", "A", 1e-6, 100)],
    regulator: Annotated[float, Arg("what the regulator or the port gives", "A", 0, 100)] = -1.0,
    volts: Annotated[float, Arg("supply of the module", "V", 0.5, 60)] = 3.3,
    lowest: Annotated[float, Arg("the lowest supply that it works with", "V", 0.1, 60)] = -1.0,
    burst: Annotated[float, Arg("how long the peak lasts", "s", 1e-7, 60)] = -1.0,
) -> Answer:
    """Whether a supply carries a module's peak current, and the capacitor that a burst needs (C = I t / dU).

    Without `regulator` it is compared with a USB port: 100 mA before, 500 mA after it was granted (USB 2.0).
    """
    answer = Answer()
    for name, gives in (
        (("regulator", regulator),) if regulator >= 0 else (("USB port", USB_LOW), ("USB, granted", USB_HIGH))
    ):
        enough = gives >= peak
        answer.give(
            name,
            enough,
            "",
            f"{shown(gives, 'A')}: " + ("enough" if enough else f"{shown(peak - gives, 'A')} too little"),
        )
    if burst > 0:
        lowest = lowest if lowest > 0 else 0.9 * volts
        if lowest >= volts:
            raise CalcFault(
                "lowest: the lowest supply is below the supply", f"It is {shown(0.9 * volts, 'V')} without it."
            )
        gives = regulator if regulator >= 0 else USB_LOW
        farads = electric.hold_up_capacitor(peak, burst, volts - lowest, gives)
        answer.give("hold-up capacitor", farads, "F")
        answer.step(
            f"({shown(peak, 'A')} - {shown(gives, 'A')}) x {shown(burst, 's')} / {shown(volts - lowest, 'V')} of drop"
        )
        answer.note("its series resistance drops the voltage too: take a low-ESR one, near the module")
    return answer


def battery(
    capacity: Annotated[float, Arg("capacity of the battery", "Ah", 1e-4, 1e5)],
    interval: Annotated[float, Arg("how often the states come", "s", 0.01, 1e8)],
    states: Annotated[str, Arg("current and time of each, such as 'send 120mA 70ms; listen 12mA 1s'")],
    sleep: Annotated[float, Arg("current for the rest of the time", "A", 0, 100)] = 2e-6,
    self_discharge: Annotated[float, Arg("share of the capacity lost in a year", "%", 0, 100)] = 1.0,
    usable: Annotated[float, Arg("share of the capacity that can be used", "%", 1, 100)] = 80.0,
) -> Answer:
    """Battery life from what a module does in each interval, with self-discharge.

    With a range of intervals `--plot` draws it.
    """
    answer, found = Answer(), _states(states)
    mean = electric.mean_current(found, sleep, interval)
    hours = electric.battery_life(capacity, mean, self_discharge, usable)
    answer.give("battery life", hours * 3600, "s", shown(hours * 3600, "s"))
    answer.give("mean current", mean, "A")
    if hours > 10 * electric.HOURS_A_YEAR:
        answer.note("that is longer than most batteries keep: see the maker's shelf life")
    for name, share in electric.charge_by_state(found, sleep, interval):
        answer.step(f"{name}: {share * 100:.1f} % of the charge")
    lost = capacity * self_discharge / 100 / electric.HOURS_A_YEAR
    answer.step(f"self-discharge: {shown(lost, 'A')} all the time")
    answer.step(f"{shown(capacity, 'Ah')} x {usable:g} % / ({shown(mean, 'A')} + {shown(lost, 'A')})")
    return answer


def _states(text: str) -> list[electric.PowerState]:
    """States as they are typed. Raises CalcFault."""
    made = []
    for part in filter(None, (one.strip() for one in text.split(";"))):
        words = part.split()
        try:
            if len(words) < 3:
                raise ValueError("write a name, a current and a time")
            name = " ".join(words[:-2])
            made.append(electric.PowerState(name, parsed(words[-2], "A"), parsed(words[-1], "s")))
        except ValueError as fault:
            raise CalcFault(
                f"states: {part[:40]!r}: {fault}", "For example: 'send 120mA 70ms; listen 12mA 1s'"
            ) from None
    if not made or any(one.amperes < 0 or one.seconds < 0 for one in made):
        raise CalcFault("states: name at least one, with a current and a time that are not negative")
    return made


def resistor(
    value: Annotated[float, Arg("a resistance", "Ω", 0.1, 1e8)],
) -> Answer:
    """The standard resistors around a value (E12 and E24 of IEC 60063)."""
    answer = Answer()
    for series in electric.SERIES:
        values = electric.standard_values(series, 0.1, 1e9)
        low, high = next((one for one in pairwise(values) if one[0] <= value < one[1]), (values[-1], values[-1]))
        near = min((low, high), key=lambda one: abs(one - value))
        answer.give(series, near, "Ω", f"{shown(near, 'Ω')} ({(near / value - 1) * 100:+.1f} %)")
        answer.step(f"{series}: {shown(low, 'Ω')} and {shown(high, 'Ω')}")
    return answer


TOPICS = (
    Topic("divider", "circuit", divider, ("supply=5V wanted=3.3V", "supply=12V wanted=3V series=E12 lowest=10k")),
    Topic(
        "levels",
        "circuit",
        levels,
        ("output=5V input=3.3V", "output=1.8V input=3.3V", "output=1.8,3.3,5 input=1.8,3.3,5"),
    ),
    Topic("led", "circuit", led, ("supply=3.3V current=5mA forward=2V",)),
    Topic("resistor", "circuit", resistor, ("value=4k9",)),
    Topic("supply", "circuit", supply, ("peak=2A regulator=500mA volts=3.8 lowest=3.4V burst=577us", "peak=450mA")),
    Topic(
        "battery",
        "circuit",
        battery,
        (
            "capacity=2.6Ah interval=10min states='send 120mA 70ms; listen 12mA 1s'",
            "capacity=2.6Ah interval=1min..24h/40 states='send 120mA 70ms; listen 12mA 1s' sleep=2uA,20uA",
        ),
        ("battery life",),
    ),
)
