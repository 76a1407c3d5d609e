"""Dialogues and sheets rehearsed against stand-ins, in virtual time, with no port and no hardware."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path

from wexicon.core.agenda import Agenda
from wexicon.core.dialogue import Program
from wexicon.core.faults import CallFault
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.formats.sheet import Seat
from wexicon.core.secret import HIDDEN
from wexicon.core.text import meant
from wexicon.core.tuning import Tuning
from wexicon.core.values import UNSET
from wexicon.files import read_file
from wexicon.links.virtual import VirtualClock
from wexicon.records.trace_reader import recorded
from wexicon.records.trace_writer import TraceWriter
from wexicon.rigs.bench import Bench, Unit, UnitTable, read_rig
from wexicon.rigs.standins import FAMILIES
from wexicon.rigs.standins.recording import Recording
from wexicon.work.function.dialogues import run_dialogue
from wexicon.work.module.module import Module
from wexicon.work.provisioning.run import Order, provision
from wexicon.work.results.dialogue import DialogueResult
from wexicon.work.results.unit import UnitResult
from wexicon.work.simulation.choice import Choice
from wexicon.work.simulation.party_rehearsal import rehearse_parties
from wexicon.work.simulation.virtual_bench import VirtualBench


def bench_of(choice: Choice, lexicon: Lexicon | None) -> VirtualBench:
    """The chosen stand-in on a bench in virtual time. Raises Fault."""
    agenda = Agenda()
    return VirtualBench(_unit_of(choice, lexicon, agenda).standin, agenda, lexicon)


def _unit_of(choice: Choice, lexicon: Lexicon | None, agenda: Agenda) -> Unit:
    if choice.rig:
        folder = choice.rig.parent
        bench = read_rig(read_file(choice.rig), str(choice.rig), agenda, lambda name: recorded(folder / name))
        bench.power_up()
        return _unit_in(bench, choice, lexicon)
    name = "recording" if choice.recording else choice.standin or (lexicon.about.family if lexicon else "")
    if name not in FAMILIES or (name == "recording" and not choice.recording):
        if not name:
            raise CallFault("nothing answers", hint="name a --lexicon, a --standin, a --rig or a --recording")
        raise CallFault(f"there is no stand-in {name}", hint=meant(name, set(FAMILIES) - {"recording"}))
    table = UnitTable(name, trace=str(choice.recording or ""))
    bench = Bench("", {"unit": table}, agenda, None, lambda path: recorded(Path(path)))
    bench.power_up()
    return bench.units["unit"]


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


def _fills(seat: Seat) -> Callable[[str], str]:
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


class _Traced:
    """A listener on the bench's clock, or none."""

    def __init__(self, bench: VirtualBench, path: Path | None, tuning: Tuning) -> None:
        self.writer: TraceWriter | None = None
        if path:
            speech = bench.dialect().speech
            clock, name = VirtualClock(bench.agenda), bench.standin.name
            self.writer = TraceWriter(
                path,
                clock,
                link=name,
                tuning=tuning,
                end=speech.end,
                form=speech.answer,
                layers=speech.layers,
                force=True,
            )

    def close(self) -> str:
        if self.writer:
            self.writer.close()
        return str(self.writer.path) if self.writer else ""


def rehearse_dialogue(
    program: Program,
    values: Mapping[str, object],
    lexicon: Lexicon | None,
    choice: Choice,
    *,
    trace: Path | None = None,
) -> DialogueResult:
    """Runs a dialogue against a stand-in, or between several. Raises Fault where there is none."""
    if program.parties():
        return rehearse_parties(program, values, choice, trace=trace)
    bench = bench_of(choice, lexicon)
    recording = bench.standin.family == "recording"
    tuning = bench.standin.uart.tuning if recording else lexicon.factory if lexicon else Tuning()
    traced = _Traced(bench, trace, tuning)
    session = bench.session(traced.writer, tuning=tuning)
    result = run_dialogue(session, program, values, lexicon, bench.operator, attention=not recording)
    session.listener.flush()
    result.trace = traced.close()
    return result


def rehearse_seat(seat: Seat, choice: Choice, *, trace: Path | None = None, order: Order | None = None) -> UnitResult:
    """Provisions a stand-in as a seat of a sheet says. Raises Fault where there is none."""
    bench = bench_of(choice, seat.lexicon)
    tuning = seat.lexicon.attention.tuning or seat.lexicon.factory
    if isinstance(bench.standin, Recording):
        tuning, bench.standin.fill = bench.standin.uart.tuning, _fills(seat)
    traced = _Traced(bench, trace, tuning)
    session = bench.session(traced.writer, tuning=tuning, secrets=seat.secrets())
    result = provision(
        Module(session, seat.lexicon, bench.operator, given=seat.given),
        order or Order(seat.wanted, trust=seat.trust, image=seat.image, others=seat.others),
    )
    session.listener.flush()
    port = f"stand-in {bench.standin.family}"
    return result.about(seat.name, port, seat.lexicon, traced.close())
