"""`wexicon rehearse`: a dialogue or a sheet, held against stand-ins in virtual time, with no port and no hardware."""

from __future__ import annotations

import time
from pathlib import Path

import click
import msgspec

from wexicon.cli.holding import (
    DialogueReport,
    env_option,
    file_option,
    find_dialogue,
    gather_values,
    hold,
    print_report,
    times,
    values_argument,
)
from wexicon.cli.outcome import UnitReport, print_end, print_failure, print_identity, print_settings
from wexicon.cli.show import json_option, print_json, print_line
from wexicon.cli.working import trace_option
from wexicon.core.agenda import Agenda
from wexicon.core.durations import spoken
from wexicon.core.faults import CallFault
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.formats.sheet import Seat
from wexicon.core.protocol.session import NoTrace, Session, Trace
from wexicon.core.protocol.speech import Speech
from wexicon.core.text import meant
from wexicon.core.tuning import Tuning
from wexicon.links.virtual import VirtualClock, VirtualLink
from wexicon.records.trace import TraceWriter, recorded
from wexicon.rig.bench import Bench, Unit, UnitTable, read_rig
from wexicon.rig.standins import FAMILIES
from wexicon.work.finding import find_lexicon, find_sheet, read_file
from wexicon.work.hail import Hail
from wexicon.work.module import Module
from wexicon.work.provision import Provision

PATIENCE = 60.0


@click.command()
@click.argument("file", type=click.Path(path_type=Path))
@values_argument
@click.option("--lexicon", "-l", "lexicon_name", help="Lexicon for the module's words (a sheet names its own).")
@click.option("--rig", "rig_path", type=click.Path(path_type=Path), help="The rig whose stand-in answers.")
@click.option("--unit", "unit_name", help="Which unit of the rig.  [default: the one of the lexicon's family]")
@click.option("--standin", help="The stand-in that answers, as delivered.  [default: the lexicon's family]")
@click.option("--recording", type=click.Path(path_type=Path), help="A trace: answer as that module did.")
@env_option
@file_option
@trace_option
@json_option
def rehearse(
    file: Path,
    pairs: tuple[str, ...],
    lexicon_name: str | None,
    rig_path: Path | None,
    unit_name: str | None,
    standin: str | None,
    recording: Path | None,
    env_pairs: tuple[str, ...],
    file_pairs: tuple[str, ...],
    trace_path: Path | None,
    as_json: bool,
) -> None:
    """Hold the dialogue or provision the sheet in FILE against stand-ins, in virtual time."""
    choice = _Choice(rig_path, unit_name, standin, recording)
    began = time.perf_counter()
    if file.suffix == ".toml":
        reports = [_provision(seat, choice, trace_path) for seat in find_sheet(file, None).seats.values()]
        _print_units(reports, as_json, time.perf_counter() - began)
        if failed := next((report for report in reports if report.failure), None):
            assert failed.failure
            raise click.exceptions.Exit(failed.failure.status)
        return
    program = find_dialogue(file)
    lexicon = find_lexicon(lexicon_name, file.parent) if lexicon_name else None
    values, secrets = gather_values(program, pairs, env_pairs, file_pairs)
    scene = _Scene(choice, lexicon, trace_path, secrets)

    def get_attention(module: Module) -> None:
        def hail() -> None:
            Hail(module.session, module.lexicon, module.operator, PATIENCE).find()
            module.attentive = True

        if scene.unit.standin.family != "recording":
            hail()
            module.regain = hail

    report = hold(scene.session, program, values, lexicon, scene, get_attention)
    report.trace = scene.close()
    _print_dialogue(report, as_json, time.perf_counter() - began)
    if report.failure:
        raise click.exceptions.Exit(report.failure.status)


class _Choice(msgspec.Struct):
    """Which stand-in answers."""

    rig: Path | None
    unit: str | None
    standin: str | None
    recording: Path | None

    def of(self, lexicon: Lexicon | None, agenda: Agenda) -> Unit:
        """The unit; raises Fault."""
        if self.rig:
            bench = read_rig(read_file(self.rig), str(self.rig), agenda, lambda name: recorded(self._beside(name)))
            bench.power_up()
            return self._unit_of(bench, lexicon)
        name = "recording" if self.recording else self.standin or (lexicon.about.family if lexicon else "")
        if name not in FAMILIES or (name == "recording" and not self.recording):
            if not name:
                raise CallFault("nothing answers", hint="name a --lexicon, a --standin, a --rig or a --recording")
            raise CallFault(f"there is no stand-in {name}", hint=meant(name, set(FAMILIES) - {"recording"}))
        table = UnitTable(name, trace=str(self.recording or ""))
        bench = Bench("", {"unit": table}, agenda, None, lambda path: recorded(Path(path)))
        bench.power_up()
        return bench.units["unit"]

    def _beside(self, name: str) -> Path:
        assert self.rig
        return self.rig.parent / name

    def _unit_of(self, bench: Bench, lexicon: Lexicon | None) -> Unit:
        if self.unit:
            try:
                return bench.unit(self.unit)
            except ValueError as fault:
                raise CallFault(str(fault)) from None
        family = lexicon.about.family if lexicon else ""
        fitting = [u for u in bench.units.values() if u.standin.family == family] or list(bench.units.values())
        if len(fitting) > 1 and not family:
            raise CallFault("the rig has several units", hint=f"say which: --unit {' or '.join(bench.units)}")
        return fitting[0]


class _Scene:
    """A stand-in, a link to it in virtual time, a session on that, and hands that work it."""

    def __init__(self, choice: _Choice, lexicon: Lexicon | None, trace: Path | None, secrets: list[str]) -> None:
        self.agenda = Agenda()
        self.unit = choice.of(lexicon, self.agenda)
        clock = VirtualClock(self.agenda)
        speech = lexicon.speech if lexicon else Speech()
        uart = self.unit.standin.uart
        tuning = lexicon.delivered if lexicon else uart.tuning if self.unit.standin.family == "recording" else Tuning()
        link = VirtualLink(self.unit.name, clock, uart, tuning)
        uart.to_host = link.take
        self.writer: TraceWriter | None = None
        kept: Trace = NoTrace()
        if trace:
            kept = self.writer = TraceWriter(
                trace, clock, link=link.name, tuning=tuning, end=speech.end, secrets=secrets
            )
        self.session = Session(link, speech, lexicon.events if lexicon else None, kept)

    def ask(self, act: str, text: str) -> None:
        """What a person at the bench would be asked."""
        self.unit.work("operate", act)

    def noticed(self) -> None:
        """Nothing to tell a stand-in."""

    def close(self) -> str:
        """Ends the trace, and gives its place."""
        if self.writer:
            self.writer.close()
            return str(self.writer.path)
        return ""


def _provision(seat: Seat, choice: _Choice, trace: Path | None) -> UnitReport:
    scene = _Scene(choice, seat.lexicon, trace, seat.secrets())
    result = Provision(scene.session, seat.lexicon, scene, seat.wanted).run()
    return UnitReport.of(seat.name, f"stand-in {scene.unit.standin.family}", seat.lexicon, result, Path(scene.close()))


def _print_units(reports: list[UnitReport], as_json: bool, took: float) -> None:
    if as_json:
        print_json(reports)
        return
    for report in reports:
        print_identity(report)
        print_settings(report)
        if report.failure:
            print_failure(report)
        else:
            print_end(report, writes=True)
    total = sum(report.seconds for report in reports)
    print_line(f"in real time this takes {spoken(total)}; rehearsed in {spoken(took)}")


def _print_dialogue(report: DialogueReport, as_json: bool, took: float) -> None:
    if as_json:
        print_json(report)
        return
    for note in report.notes:
        print_line(f"# {note}")
    print_report(report)
    if not report.failure:
        print_line(f"held: {report.exchanges} exchanges", "bold green")
    print_line(f"in real time this takes {spoken(report.seconds)}: {times(report)}; rehearsed in {spoken(took)}")
