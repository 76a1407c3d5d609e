"""Which stand-in a rehearsal is done against: a unit of a rig, one of a family, or a recording."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from wexicon.core.agenda import Agenda
from wexicon.core.faults import CallFault
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.formats.sheet import Seat
from wexicon.core.secret import HIDDEN
from wexicon.core.text import meant
from wexicon.core.values import UNSET
from wexicon.files import read_file
from wexicon.records.trace_reader import recorded
from wexicon.rigs.bench import Bench, Unit, UnitTable, read_rig
from wexicon.rigs.standins import FAMILIES
from wexicon.work.simulation.choice import Choice
from wexicon.work.simulation.virtual_bench import VirtualBench


def bench_of(choice: Choice, lexicon: Lexicon | None) -> VirtualBench:
    """The chosen stand-in on a bench in virtual time. Raises Fault."""
    bench, unit = rig_of(choice, lexicon)
    return VirtualBench(unit.standin, bench.agenda, lexicon)


def rig_of(choice: Choice, lexicon: Lexicon | None) -> tuple[Bench, Unit]:
    """The rig that has the chosen stand-in, in virtual time and with power, and its unit there. Raises Fault."""
    agenda = Agenda()
    if choice.rig:
        folder = choice.rig.parent
        bench = read_rig(read_file(choice.rig), str(choice.rig), agenda, lambda name: recorded(folder / name))
        bench.power_up()
        return bench, _unit_in(bench, choice, lexicon)
    name = "recording" if choice.recording else choice.standin or (lexicon.about.family if lexicon else "")
    if name not in FAMILIES or (name == "recording" and not choice.recording):
        if not name:
            raise CallFault("nothing answers", hint="name a --lexicon, a --standin, a --rig or a --recording")
        raise CallFault(f"there is no stand-in {name}", hint=meant(name, set(FAMILIES) - {"recording"}))
    table = UnitTable(name, trace=str(choice.recording or ""))
    bench = Bench("", {"unit": table}, agenda, None, lambda path: recorded(Path(path)))
    bench.power_up()
    return bench, bench.units["unit"]


def _unit_in(bench: Bench, choice: Choice, lexicon: Lexicon | None) -> Unit:
    if choice.unit:
        try:
            return bench.unit(choice.unit)
        except ValueError as fault:
            raise CallFault(str(fault)) from None
    family = lexicon.about.family if lexicon else ""
    fitting = [u for u in bench.units.values() if u.standin.family == family]
    if fitting:
        return fitting[0]
    if len(bench.units) > 1:
        what = f"the rig has no {family}" if family else "the rig has several units"
        raise CallFault(what, hint=f"say which: --unit {' or '.join(bench.units)}")
    return next(iter(bench.units.values()))


def fills(seat: Seat) -> Callable[[str], str]:
    """Puts the sheet's own secrets where a recording has left them out, by how the line begins."""
    known: dict[str, str] = {}
    for name, value in seat.wanted.items():
        setting = seat.lexicon.settings[name]
        phrases = (setting.read, setting.group.read if setting.group else None) if setting.secret else ()
        for phrase in phrases:
            for want in phrase.expect.wants if phrase and value is not UNSET else ():
                if want.pattern.start and {"value", name} & set(want.pattern.names):
                    known[want.pattern.start] = setting.kind.encode(value)

    def fill(text: str) -> str:
        lead = next((lead for lead in known if text == lead + HIDDEN), None)
        return text if lead is None else lead + known[lead]

    return fill
