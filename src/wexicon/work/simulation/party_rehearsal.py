"""Dialogues between several parties, rehearsed: stand-ins on one bench and simulated sockets, in virtual time.

The rule: the same code as on ports; only links, clock and sockets are others.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from contextlib import ExitStack
from pathlib import Path

from wexicon.core.agenda import Agenda
from wexicon.core.dialogue import Program
from wexicon.core.dialogue.parties import Party
from wexicon.core.faults import CallFault, LinkFault
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.protocol.dialect import Dialect
from wexicon.files import read_file
from wexicon.links.sockets import parsed
from wexicon.links.virtual import VirtualClock, VirtualSocket
from wexicon.records.trace_reader import recorded
from wexicon.rigs.air import Air
from wexicon.rigs.bench import Bench, Unit, UnitTable, no_recordings, read_rig
from wexicon.rigs.standins import FAMILIES
from wexicon.work.contact.sessions import Opening, Setup
from wexicon.work.function.dialogues import DATA, Participant, run_with_parties
from wexicon.work.function.parties import Parties, lexicons_of
from wexicon.work.results.dialogue import DialogueResult
from wexicon.work.simulation.choice import Choice
from wexicon.work.simulation.virtual_bench import VirtualBench

# How long the stand-ins have had power when a dialogue between them begins (seconds).
SETTLED = 5.0


def rehearse_parties(
    program: Program, values: Mapping[str, object], choice: Choice, *, trace: Path | None = None
) -> DialogueResult:
    """Runs a dialogue between several stand-ins on one bench, and simulated sockets. Raises Fault."""
    agenda, lexicons = Agenda(), lexicons_of(program)
    bench = _bench_for(lexicons, choice, agenda)
    with ExitStack() as stack:
        setup = Setup(force=True)
        made = Parties(stack, setup, Opening(), trace, VirtualClock(agenda))
        free = dict(bench.units)
        for name, lexicon in lexicons.items():
            unit = free.pop(name, None) or _take(free, lexicon)
            if unit is None:
                raise CallFault(f"the rig has no unit for {name}", hint=f"Call one of its units {name}.")
            one = VirtualBench(unit.standin, agenda, lexicon)
            link = one.link(lexicon.factory if lexicon else None)
            session = made.session(name, link, one.dialect())
            made.modules.append(Participant(name, session, lexicon, one.operator))
        result = run_with_parties(made.modules, program, values, opens=virtual_sockets(bench.air, agenda, made))
        made.close()
    result.trace = str(trace or "")
    return result


def _bench_for(lexicons: Mapping[str, Lexicon | None], choice: Choice, agenda: Agenda) -> Bench:
    """The bench of a rig file, or one with a stand-in of each party's family."""
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


def virtual_sockets(air: Air, agenda: Agenda, made: Parties) -> Callable[[str, str], Party]:
    """Opens sockets in virtual time: for stand-ins to connect to, and to the ports at which they serve. No socket of this
    machine takes part. What it gives raises LinkFault."""
    air.simulated = True

    def opened(name: str, url: str) -> Party:
        scheme, host, port = parsed(url)
        link = VirtualSocket(url, VirtualClock(agenda))
        if scheme == "listen":
            air.listeners[host, port] = link
        elif port not in air.served:
            told = LinkFault("nothing answers there", where=url, hint="In a rehearsal only stand-ins serve.")
            told.refused = True
            raise told
        elif not link.connected(air.served[port].client(link)):
            link.hang_up()
        return Party(name, made.session(name, link, Dialect(DATA)), is_socket=True)

    return opened


def air_of(choice: Choice) -> Air | None:
    """The air of the chosen rig, without its units; None for an empty one. Raises Fault."""
    if choice.rig is None:
        return None
    folder = choice.rig.parent
    air = read_rig(read_file(choice.rig), str(choice.rig), Agenda(), lambda name: recorded(folder / name)).air
    air.members.clear()
    return air
