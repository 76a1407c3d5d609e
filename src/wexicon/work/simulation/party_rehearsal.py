"""Which stand-ins take part in a dialogue between several: the units of a rig, or one of each party's family.

The rule: it only chooses; the dialogue runs on their ports as on any other.
"""

from __future__ import annotations

from collections.abc import Mapping

from wexicon.core.agenda import Agenda
from wexicon.core.faults import CallFault
from wexicon.core.formats.lexicon import Lexicon
from wexicon.files import read_file
from wexicon.records.trace_reader import recorded
from wexicon.rigs.air import Air
from wexicon.rigs.bench import Bench, Unit, UnitTable, no_recordings, read_rig
from wexicon.rigs.standins import FAMILIES
from wexicon.work.simulation.choice import SETTLED, Choice


def units_for(lexicons: Mapping[str, Lexicon | None], bench: Bench) -> dict[str, str]:
    """The unit of each party: the one of its name, or the first of its lexicon's family. Raises CallFault."""
    free, found = dict(bench.units), {}
    for name, lexicon in lexicons.items():
        unit = free.pop(name, None) or _take(free, lexicon)
        if unit is None:
            raise CallFault(f"the rig has no unit for {name}", hint=f"Call one of its units {name}.")
        found[name] = unit.name
    return found


def bench_for(lexicons: Mapping[str, Lexicon | None], choice: Choice) -> Bench:
    """The bench of a rig file, or one with a stand-in of each party's family; they have had power for a while."""
    agenda = Agenda()
    if choice.rig:
        folder = choice.rig.parent
        bench = read_rig(read_file(choice.rig), str(choice.rig), agenda, lambda name: recorded(folder / name))
    else:
        families = {name: lexicon.about.family if lexicon else "" for name, lexicon in lexicons.items()}
        for name, family in families.items():
            if family not in FAMILIES:
                hint = f"Name a lexicon: party {name} = LEXICON; or a --rig with a unit {name}."
                raise CallFault(f"there is no stand-in for {name}", hint=hint)
        bench = Bench("", {name: UnitTable(family) for name, family in families.items()}, agenda, None, no_recordings)
    bench.power_up()
    agenda.run_until(SETTLED)
    return bench


def _take(free: dict[str, Unit], lexicon: Lexicon | None) -> Unit | None:
    """A unit of a lexicon's family that is not taken yet."""
    for name, unit in free.items():
        if lexicon and unit.standin.family == lexicon.about.family:
            return free.pop(name)
    return None


def air_of(choice: Choice) -> Air | None:
    """The air of the chosen rig, without its units; None for an empty one. Raises Fault."""
    if choice.rig is None:
        return None
    folder = choice.rig.parent
    air = read_rig(read_file(choice.rig), str(choice.rig), Agenda(), lambda name: recorded(folder / name)).air
    air.members.clear()
    return air
