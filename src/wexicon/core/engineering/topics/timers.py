"""Topics of power saving: the timers that a network keeps, and their bits.

The rule: each wish is answered with what can be coded: exactly, or the nearest below and above.
"""

from __future__ import annotations

import re
from typing import Annotated

from wexicon.core.engineering.topic import Answer, Arg, CalcFault, Topic, shown
from wexicon.core.standards import cellular
from wexicon.core.text import spoken


def power_saving(
    active: Annotated[float, Arg("T3324: how long the module can be reached before it sleeps", "s", 0, 11_160)] = -1.0,
    periodic: Annotated[
        float, Arg("T3412 extended: how long it may sleep between two updates", "s", 0, 35_712_000)
    ] = -1.0,
    active_bits: Annotated[str, Arg("T3324 as eight bits")] = "",
    periodic_bits: Annotated[str, Arg("T3412 extended as eight bits")] = "",
) -> Answer:
    """Power-saving timers and their eight bits, both ways (3GPP TS 24.008, GPRS timers 2 and 3).

    A timer that cannot be coded is answered with the nearest below and above. Several codings of one time are all shown.
    """
    answer = Answer()
    if active < 0 and periodic < 0 and not active_bits and not periodic_bits:
        raise CalcFault("power-saving needs a timer or its bits", "For example: active=30s periodic=4h")
    for name, seconds, form in (("active", active, "gprs-2"), ("periodic", periodic, "gprs-3")):
        if seconds >= 0:
            _coded(answer, name, seconds, form)
    for name, bits, form in (("active", active_bits, "gprs-2"), ("periodic", periodic_bits, "gprs-3")):
        if bits:
            _decoded(answer, name, bits, form)
    return answer


def _coded(answer: Answer, name: str, seconds: float, form: str) -> None:
    units = cellular.UNITS[form]
    found = cellular.codings(seconds, units)
    if found:
        answer.give(f"{name} bits", found[0])
        answer.step(f"{name}: {_worked(found[0], units)}")
        if len(found) > 1:
            answer.note(f"{name}: the same time is also {', '.join(found[1:])}")
        return
    answer.give(f"{name} bits", None, text="cannot be coded")
    below, above = cellular.nearest(seconds, units)
    for word, one in (("below", below), ("above", above)):
        if one is not None:
            bits = cellular.codings(one, units)[0]
            answer.give(f"{name}, nearest {word}", bits, text=f"{bits} = {spoken(one)} ({one} s)")


def _decoded(answer: Answer, name: str, bits: str, form: str) -> None:
    if not re.fullmatch("[01]{8}", bits):
        raise CalcFault(f"{name}-bits: {bits[:20]!r} is not eight bits", "For example: 00100010")
    seconds = cellular.decoded(bits, cellular.UNITS[form])
    answer.give(name, seconds, "s", "off" if seconds == 0 and bits.startswith("111") else "")
    answer.step(f"{name}: {_worked(bits, cellular.UNITS[form])}")


def _worked(bits: str, units: dict[int, int]) -> str:
    """A coding, worked out."""
    code, count = int(bits[:3], 2), int(bits[3:], 2)
    if code == 7:
        return f"{bits[:3]} = switched off"
    unit = units.get(code, 60)
    return f"{bits[:3]} = units of {unit} s, {bits[3:]} = {count}; {count} x {unit} s = {count * unit} s"


def edrx(
    cycle: Annotated[float, Arg("how often the module listens for a page", "s", 0, 20_000)] = -1.0,
    bits: Annotated[str, Arg("the cycle as four bits")] = "",
    mode: Annotated[str, Arg("of the network", choices=("narrow", "wide"))] = "narrow",
    window: Annotated[float, Arg("paging time window: how long it listens in each cycle", "s", 0, 50)] = -1.0,
) -> Answer:
    """Cycles of extended discontinuous reception and their four bits, both ways (3GPP TS 24.008).

    `narrow` is NB-S1 mode, `wide` WB-S1 mode: they share the bits, but not every cycle.
    """
    answer, known = Answer(), cellular.cycles(mode)
    if cycle < 0 and not bits:
        answer.table(("bits", "cycle"), [(code, shown(one, "s")) for code, one in known.items()])
    if bits:
        if bits not in known:
            raise CalcFault(f"bits: {bits[:10]!r} is no cycle of {mode} mode", f"It has {', '.join(known)}.")
        answer.give("cycle", known[bits], "s")
    if cycle >= 0:
        same = [code for code, one in known.items() if abs(one - cycle) < 1e-6]
        below = max((one for one in known.items() if one[1] <= cycle), key=lambda one: one[1], default=None)
        above = min((one for one in known.items() if one[1] >= cycle), key=lambda one: one[1], default=None)
        answer.give("bits", same[0] if same else None, text="" if same else "no such cycle")
        for word, found in (("below", below), ("above", above)):
            if found and not same:
                answer.give(f"nearest {word}", found[0], text=f"{found[0]} = {shown(found[1], 's')}")
    if window >= 0:
        step = cellular.WINDOW_STEP[mode]
        code = min(15, max(0, round(window / step) - 1))
        answer.give(
            "window bits", f"{code:04b}", text=f"{code:04b} = {shown(cellular.paging_window(f'{code:04b}', mode), 's')}"
        )
        answer.step(f"window: (code + 1) x {step} s")
    return answer


TOPICS = (
    Topic(
        "power-saving", "timers", power_saving, ("active=30s periodic=4h", "periodic=100min", "periodic-bits=00100100")
    ),
    Topic("edrx", "timers", edrx, ("cycle=60s", "bits=0101 mode=wide", "cycle=20.48s window=5.12s")),
)
