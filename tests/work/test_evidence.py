"""Evidence is what was observed: a start that was not seen is none, and what was not read after it is not claimed."""

from __future__ import annotations

import pytest
from benchmarks.wanted import WANTED

from tests.conftest import Bench
from tests.work.test_provision import WANTED as PLUG
from wexicon.rig.uart import WireFaults


def test_a_stop_before_the_last_reading_leaves_no_evidence() -> None:
    bench = Bench("tamsel-k5")
    result = bench.provision(stopping=lambda: any("=" in text for text in bench.trace.said()), **PLUG)
    assert (result.verdict, result.evidence) == ("stopped", "")


def test_attention_is_no_evidence_though_it_was_asked_for() -> None:
    bench = Bench("tamsel-k5", person=True)
    bench.standin.operate("attention")
    bench.agenda.run_until(bench.agenda.now + 3)  # the key is held already
    bench.standin.memory["label"] = "Withy Point"
    bench.standin.uart.faults = WireFaults(late=0.2)
    bench.operator.ask = lambda act, text: None  # type: ignore[method-assign]
    result = bench.provision(name="Withy Point")
    assert result.evidence == "" and result.verdict != "conforms" and bench.standin.flash["label"] != "Withy Point"


@pytest.mark.parametrize("name", ["lindle-l9", "brisca-w1", "polmar-p1"])
def test_a_restart_that_does_nothing_is_not_seen(name: str, monkeypatch: pytest.MonkeyPatch) -> None:
    bench = Bench(name)
    monkeypatch.setattr(type(bench.standin), "restart", lambda self, *given, **more: None)
    result = bench.provision(prove="restart", **WANTED[name])
    assert result.evidence != "restart" and result.verdict != "conforms"


@pytest.mark.parametrize("name", ["tamsel-k5", "fennick-z4"])
def test_a_person_who_does_nothing_proves_no_power_cycle(name: str, monkeypatch: pytest.MonkeyPatch) -> None:
    bench = Bench(name, person=True)
    bench.standin.operate("attention")
    bench.agenda.run_until(bench.agenda.now + 3)  # it listens already, and goes on when told to restart
    bench.operator.ask = lambda act, text: None  # type: ignore[method-assign]
    monkeypatch.setattr(type(bench.standin), "restart", lambda self, *given, **more: None)
    result = bench.provision(prove="power", patience=8, **WANTED[name])
    assert result.evidence != "power-cycle" and result.verdict != "conforms"


def test_a_module_that_does_not_come_back_leaves_nothing_read() -> None:
    bench = Bench("lindle-l9")
    bench.provision(**WANTED["lindle-l9"])
    bench.standin.restart = lambda *given, **more: bench.standin.power(False)  # type: ignore[attr-defined]
    result = bench.verify(prove="restart", **WANTED["lindle-l9"])
    assert (result.verdict, result.evidence) == ("failed", "")
    assert {line.outcome for line in result.settings} == {"not read"}
