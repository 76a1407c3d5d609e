"""What is rehearsed gives the same results, but for times, as on pseudo-terminals: every sheet and dialogue of the sample."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import SAMPLE
from wexicon import api
from wexicon.cli.options import gather_values, sheet_at
from wexicon.core.formats.jobs import jobs_of
from wexicon.rigs.control import RemoteOperator
from wexicon.rigs.rig import Rig
from wexicon.rigs.serving import Desk, Server, served
from wexicon.work.contact.standins import Choice, on_ports, rig_at, units_for
from wexicon.work.fleet.rehearsing import RehearsedPerson, rehearse_jobs

SHEETS = ("masts.toml", "service-plug.toml", "plugs.toml", "radio-pair.toml")
# What takes more than ten seconds on ports; one dialogue waits for an hour: it is rehearsed only.
SLOW = ["radio-pair.toml", "plugs.toml", "plug-joined", "uplink-echoed", "mesh-made", "image-loaded", "buoys-heard"]
SLOW += ["mast-moved", "pair-joined", "call-rings"]
DIALOGUES = sorted(one.stem for one in SAMPLE.glob("*.wex") if "\nparty " in one.read_text())
ALONE = {"first-words": "brisca-w1", "networks": "brisca-w1", "join-office": "brisca-w1", "tide-echo": "brisca-w1"}
LABEL = "Withy handset"


def _cases(names: Any) -> list[Any]:
    return [pytest.param(one, marks=[pytest.mark.long] if one in SLOW else []) for one in names]


@pytest.fixture(autouse=True)
def _in_sample(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.chdir(SAMPLE)


def values_of(program: api.Program) -> dict[str, object]:
    """What a dialogue needs."""
    plain = [f"{one.name}={LABEL}" for one in program.needs() if one.name == "label"]
    return gather_values(
        program, plain, (), [f"{one.name}=harbour-office.key" for one in program.needs() if one.secret]
    )


@contextmanager
def on_terminals(made: Rig) -> Iterator[Server]:
    with served(made) as server:
        desk = Desk(server, "one-world")
        try:
            yield server
        finally:
            desk.close()


def of_unit(result: api.UnitResult) -> dict[str, Any]:
    """What a unit's result says, but for times and the name of the port."""
    return {
        "verdict": result.verdict,
        "evidence": result.evidence,
        "identity": result.identity,
        "settings": [(one.name, one.before, one.wanted, one.after, one.outcome) for one in result.settings],
        "tests": [
            (one.name, one.verdict, [(measured.name, measured.verdict) for measured in one.measurements])
            for one in result.tests
        ],
    }


def of_dialogue(result: api.DialogueResult) -> dict[str, Any]:
    """The same of a dialogue: what it kept is compared by its kind, where it is a time by nothing more."""
    return {
        "verdict": result.verdict,
        "failure": result.failure and result.failure.what,
        "kept": {name: kept if isinstance(kept, str | list) else type(kept) for name, kept in result.kept.items()},
        "measurements": [(one.name, one.unit, one.verdict) for one in result.measurements],
    }


@pytest.mark.parametrize("name", _cases(SHEETS))
def test_a_sheet_is_rehearsed_as_it_is_provisioned(name: str) -> None:
    sheet = sheet_at(Path(name), None, ())
    jobs = jobs_of(sheet)
    rehearsed = rehearse_jobs(sheet, jobs, Choice()).units
    numbers = {job.name: number for number, job in enumerate(jobs)}
    with on_terminals(units_for({job.name: job.seat.lexicon for job in jobs}, numbers, Choice())) as server:
        setup = api.Setup(operator=lambda port: RehearsedPerson(port, Counter()))
        places = [api.PortAssignment(server.ports[job.name]) for job in jobs]
        provisioned = api.SheetRun(sheet, jobs, places, api.SheetOrder(), None).run(setup)
    assert [of_unit(one) for one in rehearsed] == [of_unit(one) for one in provisioned]
    assert all(one.verdict == "conforms" for one in rehearsed)


@pytest.mark.parametrize("name", _cases([one for one in DIALOGUES if one not in ("sleep-observed", "cable-looped")]))
def test_a_dialogue_between_several_is_rehearsed_as_it_runs(name: str) -> None:
    program = api.find_dialogue(Path(f"{name}.wex"))
    values = values_of(program)
    parties = {party: party for party in program.parties()}
    with on_ports(rig_at(Path("estuary.toml")), settled=5.0) as setup:
        rehearsed = api.run(program, parties, values, setup=setup)
    with on_terminals(rig_at(Path("estuary.toml"))) as server:
        ports = {party: server.ports[party] for party in parties}
        ran = api.run(program, ports, values, setup=api.Setup(operator=RemoteOperator))
    assert of_dialogue(rehearsed) == of_dialogue(ran)
    # In this rig the quay is the coordinator already, and the plug is of another family.
    assert rehearsed.verdict == ("failed" if name in ("mesh-made", "plug-seen") else "passed")


@pytest.mark.parametrize("name", ALONE)
def test_a_dialogue_with_one_module_too(name: str) -> None:
    program, lexicon = api.find_dialogue(Path(f"{name}.wex")), api.find_lexicon(ALONE[name])
    values = values_of(program)
    rehearsed = api.rehearse_dialogue(program, values, lexicon, Choice(Path("estuary.toml")))
    with on_terminals(rig_at(Path("estuary.toml"))) as server:
        ran = api.run(program, server.ports["screen"], values, lexicon)
    assert of_dialogue(rehearsed) == of_dialogue(ran)
