"""Which stand-ins answer in virtual time, and the ports at which they do: a rehearsal is work on these ports.

The rule: it only chooses and connects. What is done there is done by the code that drives any other port.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from wexicon.core.agenda import Agenda
from wexicon.core.faults import CallFault
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.formats.sheet import Seat
from wexicon.core.text import HIDDEN, meant
from wexicon.core.values import UNSET
from wexicon.files import read_file
from wexicon.work.contact.catalog import find_lexicon
from wexicon.work.contact.ports import IN_MEMORY, KnownLink
from wexicon.work.contact.sessions import Setup

if TYPE_CHECKING:
    from wexicon.rigs.air import Air
    from wexicon.rigs.rig import Rig, Unit

# How long the stand-ins have had power when several are worked with (seconds).
SETTLED = 5.0


class Choice(msgspec.Struct):
    """A unit of a rig, a family's stand-in with factory defaults, or a recording."""

    rig: Path | None = None
    unit: str | None = None
    standin: str | None = None
    recording: Path | None = None


def rig_at(path: Path) -> Rig:
    """The stand-ins of a rig file, in virtual time and without power. Raises Fault."""
    from wexicon.records.trace import recorded
    from wexicon.rigs.rig import read_rig

    return read_rig(read_file(path), str(path), Agenda(), lambda name: recorded(path.parent / name))


def unit_for(choice: Choice, lexicon: Lexicon | None) -> tuple[Rig, Unit]:
    """The rig that has the chosen stand-in, with power, and its unit there. Raises Fault if there is none."""
    from wexicon.records.trace import recorded
    from wexicon.rigs.rig import Rig, UnitTable
    from wexicon.rigs.standins import FAMILIES

    if choice.rig:
        rig = rig_at(choice.rig)
        rig.power_up()
        return rig, _unit_in(rig, choice, lexicon)
    name = "recording" if choice.recording else choice.standin or (lexicon.about.family if lexicon else "")
    if name not in FAMILIES or (name == "recording" and not choice.recording):
        if not name:
            raise CallFault("nothing answers", hint="name a --lexicon, a --standin, a --rig or a --recording")
        raise CallFault(f"there is no stand-in {name}", hint=meant(name, set(FAMILIES) - {"recording"}))
    table = UnitTable(name, trace=str(choice.recording or ""))
    rig = Rig("", {"unit": table}, Agenda(), None, lambda path: recorded(Path(path)))
    rig.power_up()
    return rig, rig.units["unit"]


def _unit_in(rig: Rig, choice: Choice, lexicon: Lexicon | None) -> Unit:
    if choice.unit:
        try:
            return rig.unit(choice.unit)
        except ValueError as fault:
            raise CallFault(str(fault)) from None
    family = lexicon.about.family if lexicon else ""
    fitting = [u for u in rig.units.values() if u.standin.family == family]
    if fitting:
        return fitting[0]
    if len(rig.units) > 1:
        what = f"the rig has no {family}" if family else "the rig has several units"
        raise CallFault(what, hint=f"say which: --unit {' or '.join(rig.units)}")
    return next(iter(rig.units.values()))


def parties_for(lexicons: Mapping[str, Lexicon | None], choice: Choice) -> tuple[Rig, dict[str, str]]:
    """The rig of a dialogue between several, and the unit of each party: the one of its name, or the first of its lexicon's
    family; without a rig file a stand-in of that family. Raises CallFault."""
    from wexicon.rigs.rig import Rig, UnitTable, no_recordings
    from wexicon.rigs.standins import FAMILIES

    if choice.rig:
        rig = rig_at(choice.rig)
    else:
        families = {name: lexicon.about.family if lexicon else "" for name, lexicon in lexicons.items()}
        for name, family in families.items():
            if family not in FAMILIES:
                hint = f"Name a lexicon: party {name} = LEXICON; or a --rig with a unit {name}."
                raise CallFault(f"there is no stand-in for {name}", hint=hint)
        tables = {name: UnitTable(family) for name, family in families.items()}
        rig = Rig("", tables, Agenda(), None, no_recordings)
    free, found = dict(rig.units), {}
    for name, lexicon in lexicons.items():
        unit = free.pop(name, None) or _take(free, lexicon)
        if unit is None:
            raise CallFault(f"the rig has no unit for {name}", hint=f"Call one of its units {name}.")
        found[name] = unit.name
    return rig, found


def _take(free: dict[str, Unit], lexicon: Lexicon | None) -> Unit | None:
    """A unit of a lexicon's family that is not taken yet."""
    for name, unit in free.items():
        if lexicon and unit.standin.family == lexicon.about.family:
            return free.pop(name)
    return None


def units_for(lexicons: Mapping[str, Lexicon], numbers: Mapping[str, int], choice: Choice) -> Rig:
    """A rig with a stand-in for each name: the chosen one of its lexicon, as another module with that number, without power.
    Raises Fault."""
    from wexicon.records.trace import recorded
    from wexicon.rigs.rig import Rig

    chosen: dict[int, Unit] = {}
    for lexicon in lexicons.values():
        if id(lexicon) not in chosen:
            chosen[id(lexicon)] = unit_for(choice, lexicon)[1]
    folder = choice.rig.parent if choice.rig else Path()
    tables = {name: chosen[id(lexicon)].table for name, lexicon in lexicons.items()}
    rig = Rig("", tables, Agenda(), _air_of(choice), lambda name: recorded(folder / name))
    for name, unit in rig.units.items():
        unit.standin.own = dict(chosen[id(lexicons[name])].standin.own)
        unit.standin.another(numbers[name], flash=False)
    return rig


def _air_of(choice: Choice) -> Air | None:
    """The air of the chosen rig, without its units; None for an empty one."""
    if choice.rig is None:
        return None
    air = rig_at(choice.rig).air
    air.members.clear()
    return air


@contextmanager
def on_ports(rig: Rig, *, known: bool = False, settled: float | None = 0.0) -> Iterator[Setup]:
    """The units of a rig on ports in virtual time, each answering by its name, worked by an operator who never waits. With
    `known`, what each stand-in is and at which rate it speaks is taken for known of its port. They have had power for
    `settled` seconds; None: they have none."""
    from wexicon.rigs.control import RemoteOperator
    from wexicon.rigs.virtual_ports import on_virtual_ports

    if settled is not None:
        rig.power_up()
        rig.agenda.run_until(settled)
    with on_virtual_ports(rig) as ports:
        for name, port in ports.items():
            standin, lexicon = rig.units[name].standin, ""
            if known:
                with suppress(CallFault):
                    lexicon = find_lexicon(standin.family).about.family
            IN_MEMORY[port] = KnownLink(port, standin.uart.tuning, "", lexicon) if known else None
        try:
            yield Setup(operator=RemoteOperator, keeps=False)
        finally:
            for port in ports.values():
                del IN_MEMORY[port]


def fills(seat: Seat) -> Callable[[str], str]:
    """Puts the sheet's own secrets where a recording has left them out, by how the line begins."""
    known: dict[str, str] = {}
    for name, value in seat.wanted.items():
        setting = seat.lexicon.settings[name]
        phrases = (setting.read, setting.in_group.read if setting.in_group else None) if setting.secret else ()
        for phrase in phrases:
            for want in phrase.expect.wants if phrase and value is not UNSET else ():
                if want.pattern.start and {"value", name} & set(want.pattern.names):
                    known[want.pattern.start] = setting.kind.encode(value)

    def fill(text: str) -> str:
        lead = next((lead for lead in known if text == lead + HIDDEN), None)
        return text if lead is None else lead + known[lead]

    return fill
