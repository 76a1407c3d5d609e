"""One unit from with factory defaults to as wanted, in virtual time, whatever happens on the way."""

from __future__ import annotations

import pytest
from msgspec.structs import replace

from tests.conftest import Bench
from wexicon.core.formats.lexicon import Moves
from wexicon.core.tuning import Tuning
from wexicon.work.provisioning.run import provision

WANTED = {"name": "Withy Point", "role": "leader", "pin": "48213", "peer": "02:A1:5C:00:21:8E", "rate": 115200}


def test_it_changes_what_differs_and_then_nothing() -> None:
    bench = Bench("tamsel-k5")
    first = bench.provision(**WANTED)
    assert first.verdict == "conforms"
    assert {line.outcome for line in first.settings} == {"changed"}
    assert bench.standin.flash["mate"] == "02A15C00218E"
    assert bench.standin.uart.tuning == Tuning(115200)  # left in data mode, at its new rate
    said = bench.trace.said()
    assert said.index("AT+PART=L") < said.index("AT+MATE=02A15C-00218E")  # only a leader may have a mate
    assert [text for text in said if "=" in text][-1].startswith("AT+SPEED=")  # what moves the link comes last
    bench.standin.cycle()
    second = bench.provision(**WANTED)
    assert (second.verdict, second.written) == ("conforms", 0)
    assert {line.outcome for line in second.settings} == {"unchanged"}


def test_the_pin_is_in_no_record() -> None:
    bench = Bench("tamsel-k5", **{"pass": "70707"})
    result = bench.provision(**WANTED)
    told = repr(bench.trace.all) + repr(result.failure)
    assert "48213" not in told and "70707" not in told
    assert "AT+PASS=(secret)" in bench.trace.said()


def test_a_value_silently_dropped_is_found_out(monkeypatch: pytest.MonkeyPatch) -> None:
    bench = Bench("tamsel-k5")
    take = bench.standin.take  # type: ignore[attr-defined]
    monkeypatch.setattr(
        bench.standin, "take", lambda word, text: bench.standin.answer() if word == "label" else take(word, text),  # type: ignore[attr-defined]
    )  # fmt: skip
    result = bench.provision(**WANTED)
    assert result.verdict == "failed"
    line = next(line for line in result.settings if line.name == "name")
    assert (line.outcome, line.after and line.after.shown) == ("differs", "TAMSEL-K5")


def test_a_refused_value_is_told_with_its_meaning() -> None:
    bench = Bench("tamsel-k5")
    bench.standin.memory["part"] = "F"
    result = bench.provision(peer="02:A1:5C:00:21:8E")
    assert result.failure and "only a leader has a mate" in result.failure.what
    assert next(line for line in result.settings if line.name == "peer").outcome == "refused"


def test_verify_writes_nothing() -> None:
    bench = Bench("tamsel-k5")
    result = bench.verify(**WANTED)
    assert result.verdict == "failed" and result.written == 0
    assert not [text for text in bench.trace.said() if "=" in text]
    assert {line.outcome for line in result.settings} == {"differs"}


def test_a_key_let_go_early_is_recognised() -> None:
    bench = Bench("tamsel-k5")
    standin = bench.standin

    def ask(act: str, text: str) -> None:
        bench.operator.asked.append(text)
        if len(bench.operator.asked) > 1:
            return standin.operate(act)
        standin.power(False)
        standin.key("service", True)
        standin.power(True)
        return standin.by_hand((0.4, lambda: standin.key("service", False)))

    bench.operator.ask = ask  # type: ignore[method-assign]
    assert bench.provision(**WANTED).verdict == "conforms"
    assert "released too early" in bench.operator.asked[1]


def test_data_mode_and_silence_are_told_apart() -> None:
    powered, dead = Bench("tamsel-k5"), Bench("tamsel-k5")
    dead.standin.power(False)
    told = []
    for bench in (powered, dead):
        bench.operator.ask = lambda act, text: None  # type: ignore[method-assign]
        result = bench.provision(**WANTED)
        assert result.failure and result.failure.status == 3
        told.append(result.failure.what)
    assert "in data mode" in told[0] and "nothing heard" in told[1]


def test_what_means_the_same_is_the_same_and_its_bits_are_kept() -> None:
    bench = Bench("cordal-n7", person=True)
    bench.agenda.run_until(3)
    before = bench.standin.flash["periodic"]
    result = bench.provision(saving=True)
    assert result.verdict == "conforms", result.failure
    assert bench.standin.flash["periodic"] == before and bench.standin.flash["saving"] == 1


def test_a_ready_text_is_waited_for_at_the_rate_with_which_the_module_starts() -> None:
    one = Bench("brisca-w1")
    rate = one.lexicon.settings["rate"]
    one.lexicon = replace(
        one.lexicon, settings={**one.lexicon.settings, "rate": replace(rate, moves_link=Moves.RESTART)}
    )
    # A sister of the family: its rate counts from its next start on.
    then = one.standin.then
    moves = lambda action: "setattr" in action.__code__.co_names  # noqa: E731
    one.standin.then = lambda action, delay=None: None if moves(action) else then(action, delay)  # type: ignore[method-assign]
    one.agenda.run_until(3)
    before = len(one.trace.said())
    result = provision(one.module(), one.order(prove="restart", rate=57600), store=one.store)
    assert result.verdict == "conforms", result.failure
    assert result.evidence == "restart" and one.standin.flash["rate"] == 57600
    said = one.trace.said()[before:]
    assert len(said) < 41, said
    assert not any("not seen" in text or "no restart" in text for text in result.remarks)


def test_that_a_start_clears_a_volatile_setting_is_no_remark() -> None:
    one = Bench("wherry-c3")
    one.agenda.run_until(1)
    one.standin.lamp = "lit"
    result = one.provision(lamp="on", tick=8)
    assert result.verdict == "conforms" and result.remarks == [] and one.standin.lamp == "lit"
