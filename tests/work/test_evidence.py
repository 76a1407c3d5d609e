"""Evidence is what was observed: a start that was not seen is none, and what was not read after it is not claimed."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from benchmarks.wanted import WANTED

from tests.conftest import Bench
from tests.work.test_provision import WANTED as PLUG
from wexicon.core.formats.fixture import Fixture, Pin
from wexicon.core.operator import NoOperator
from wexicon.core.results.result import EVIDENCE_TEXT
from wexicon.core.results.unit import UnitResult
from wexicon.files import shipped_folder
from wexicon.rigs.uart import WireFaults
from wexicon.work.contact.power import PinRecord
from wexicon.work.module.module import Module
from wexicon.work.provisioning.run import provision


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


# -- power ----------------------------------------------------------------------------------------------------------------


def by_fixture(bench: Bench, record: PinRecord | None = None, *, wired: bool = True, **keys: Any) -> UnitResult:
    """Provisions with a fixture whose RTS line takes the power away, if it is wired."""
    bench.standin.wiring = {"rts": "!power"} if wired else {}
    module = Module(
        bench.open(keys.pop("stopping", lambda: False)),
        bench.lexicon,
        NoOperator(),
        fixture=Fixture({"power": Pin("rts", inverted=True)}, record=record),
    )
    return provision(module, bench.order(**keys), store=bench.store)


@pytest.mark.parametrize("name", ["lindle-l9", "fennick-z4", "brisca-w1", "orvane-b3"])
def test_a_fixture_that_cuts_the_power_proves_it(name: str) -> None:
    result = by_fixture(Bench(name), prove="power", **WANTED[name])
    assert (result.evidence, result.verdict, result.remarks) == ("power-cycle", "conforms", []), result.failure


def test_a_fixture_that_does_nothing_is_named_and_proves_nothing() -> None:
    result = by_fixture(Bench("lindle-l9"), wired=False, prove="power", **WANTED["lindle-l9"])
    assert (result.evidence, result.verdict) == ("reading", "unproved")
    assert "answers while its power is off: what was to take the power away does nothing" in " ".join(
        [*result.remarks, result.missing]
    )


@pytest.mark.parametrize(
    ("spoiled", "after", "cycles", "evidence"),
    [(1, 0.1, 1, "power-cycle"), (1, 0.31, 2, "power-cycle"), (9, 0.31, 2, "reading")],
)
def test_bytes_that_come_while_the_power_is_off_spoil_one_power_cycle(
    spoiled: int, after: float, cycles: int, evidence: str
) -> None:
    bench = Bench("lindle-l9")
    made, ask = [], bench.operator.ask

    def late_bytes(act: str, text: str) -> None:
        ask(act, text)
        if act == "power-off":
            made.append(act)
            if len(made) <= spoiled:
                bench.agenda.after(after, lambda: bench.standin.uart.to_host(b"\r\n"))

    bench.operator.ask = late_bytes  # type: ignore[method-assign]
    result = bench.provision(prove="power", **WANTED["lindle-l9"])
    assert (result.evidence, len(made)) == (evidence, cycles), result.missing


def test_a_module_that_is_fed_through_its_data_lines_is_named() -> None:
    result = by_fixture(Bench("lindle-l9", faults=WireFaults(fed=True)), prove="power", **WANTED["lindle-l9"])
    assert result.evidence != "power-cycle" and result.verdict == "unproved"
    assert "it is fed through its data lines" in " ".join([*result.remarks, result.missing])


def test_power_is_given_back_whatever_ends_the_run(tmp_path: Path) -> None:
    bench, record = Bench("lindle-l9"), PinRecord(tmp_path)
    stopped = by_fixture(
        bench, record, stopping=lambda: not bench.standin.powered, prove="power", **WANTED["lindle-l9"]
    )
    assert stopped.verdict == "stopped" and bench.standin.powered and not list(tmp_path.iterdir())
    # A run that was killed gives nothing back: the next one does.
    session = bench.open()
    fixture = Fixture({"power": Pin("rts", inverted=True)}, record=record)
    record.begin(session.link.name, {"power": True})
    fixture.drive(session, {"power": False})
    assert "left power off: name the fixture" in Fixture(record=record).put_right(session)
    assert not bench.standin.powered
    assert fixture.put_right(session) == "an interrupted run left power off; it was put right"
    assert bench.standin.powered and fixture.put_right(session) == ""


# -- lines and acknowledgements -------------------------------------------------------------------------------------------


def test_half_a_line_is_no_answer() -> None:
    bench = Bench("lindle-l9", addr=42)
    sent = bench.standin._sent

    def pausing(data: bytes) -> None:
        at = data.find(b"@addr 4") + len(b"@addr 4")
        if at < len(b"@addr 4"):
            sent(data)
            return
        sent(data[:at])
        bench.standin.after(1.5, lambda: sent(data[at:]))

    bench.standin._sent = pausing  # type: ignore[method-assign]
    result = bench.verify(address=4)
    assert result.verdict == "failed" and result.failure and "stopped in the middle of a line" in result.failure.what


def test_a_link_tells_the_rate_only_of_a_module_that_keeps_to_it() -> None:
    bench = Bench("wherry-c3")
    assert bench.verify(rate=9600).settings[0].outcome == "unchanged"
    uart = bench.standin.uart
    came = uart.from_host

    def from_host(data: bytes) -> None:
        uart.tuning = uart.host  # it takes over the rate of whoever speaks to it
        came(data)

    uart.from_host = from_host  # type: ignore[method-assign]
    result = bench.verify(rate=9600)
    assert (result.settings[0].outcome, result.verdict) == ("unverified", "unproved")
    assert "answers at another rate too" in result.settings[0].note


BLIND = (
    (shipped_folder() / "lindle-l9.toml")
    .read_text()
    .replace('read    = { say = "@sync?", hear = "@sync {value}" }\n', "")
)


@pytest.mark.parametrize("when", [b"@sync=2A", b"@save"])
def test_an_acknowledgement_counts_only_if_no_start_came_before_the_save(when: bytes, tmp_path: Path) -> None:
    (tmp_path / "blind.toml").write_text(BLIND)
    bench = Bench("lindle-l9", str(tmp_path / "blind.toml"))
    heard, left = bench.standin.heard, [1]

    def browning(data: bytes, began: float) -> None:
        if when in data and left:
            left.clear()
            if when == b"@save":
                bench.standin.restart()
                return
            heard(data, began)
            bench.standin.agenda.after(0.02, bench.standin.restart)
            return
        heard(data, began)

    bench.standin.heard = browning  # type: ignore[method-assign]
    result = bench.provision(trust=("sync",), sync=0x2A)
    bench.standin.power(False)
    bench.standin.power(True)
    assert not left and (result.verdict != "conforms" or bench.standin.flash["sync"] == "2A"), result


# -- records and sentences ------------------------------------------------------------------------------------------------


def test_a_record_is_closed_only_by_an_order_that_covers_it() -> None:
    bench = Bench("lindle-l9")
    bench.provision(stopping=lambda: any("=" in text for text in bench.trace.said()), address=42, network=6)
    (unit,) = bench.store._kept
    other = bench.provision(sync=0x2A)
    assert other.verdict == "conforms" and "stays unfinished: address, network" in other.remarks[0]
    assert bench.store.find(unit) and set(bench.store.find(unit).settings) == {"address", "network"}  # type: ignore[union-attr]
    whole = bench.provision(address=42, network=6)
    assert "resuming work started" in whole.remarks[0] and bench.store.find(unit) is None


def test_after_an_exchange_of_modules_both_are_unfinished_and_told() -> None:
    bench = Bench("lindle-l9")
    bench.standin.own["serial"] = "L9-00100"

    def swapping() -> bool:
        if any(text.startswith("@addr=") for text in bench.trace.said()):
            bench.standin.own["serial"] = "L9-00200"
        return False

    result = bench.provision(stopping=swapping, address=42)
    assert result.verdict == "failed" and result.failure and "another module answers" in result.failure.what
    assert set(bench.store._kept) == {"lindle-l9 L9-00100", "lindle-l9 L9-00200"}
    assert "lindle-l9 L9-00100 and lindle-l9 L9-00200 are both unfinished" in result.remarks[-1]


def test_nothing_was_changed_is_said_only_where_nothing_was() -> None:
    bench = Bench("lindle-l9")
    identify = bench.lexicon.identify[-1].say.source

    def another(text: str | bytes, delay: float | None = None) -> None:
        if written and isinstance(text, str) and "LINDLE-L9" in text:
            text = text.replace("LINDLE-L9", "LINDLE-L7")
        say(text, delay)

    say, written = bench.standin.say, [] if identify else [1]
    bench.standin.say = another  # type: ignore[method-assign]

    def noticing() -> bool:
        if any(text.startswith("@addr=") for text in bench.trace.said()):
            written.append(1)
        return False

    late = bench.provision(stopping=noticing, address=42)
    assert late.failure and "this is another module" in late.failure.what + late.failure.next
    assert "othing was changed" not in late.failure.next
    early = bench.provision(address=42)
    assert early.failure and early.failure.next.startswith("Nothing was changed.")


@pytest.mark.parametrize("name", ["fennick-z4", "orvane-b3", "lindle-l9"])
def test_a_module_whose_answers_take_their_time_is_found_after_a_start(name: str) -> None:
    for person in (True, False):
        result = Bench(name, faults=WireFaults(late=0.08), person=person).provision(**WANTED[name])
        assert result.verdict == "conforms" and not result.remarks, result.failure


# -- what a start shows ---------------------------------------------------------------------------------------------------


def test_a_restart_that_keeps_working_memory_is_told_as_such() -> None:
    bench = Bench("cordal-g2", person=True)
    bench.agenda.run_until(3)
    start = bench.standin.start

    def warm() -> None:
        kept = dict(bench.standin.memory)
        start()
        bench.standin.memory.update({key: value for key, value in kept.items() if key != "rate"})

    bench.standin.start = warm  # type: ignore[method-assign]
    result = bench.provision(messages="text")
    assert (result.verdict, result.evidence, result.status) == ("conforms", "warm-restart", 0)
    assert EVIDENCE_TEXT[result.evidence] == "kept over a restart; power not cycled"
    assert bench.provision(messages="text", prove="restart").verdict == "conforms"


def test_a_witness_whose_change_stayed_disproves_a_silence() -> None:
    bench = Bench("lindle-l9", person=True)
    heard = bench.standin.heard

    def deaf_for_a_while(data: bytes, began: float) -> None:
        if b"@boot" in data:
            bench.standin.say("@ok\r\n")
            bench.standin.heard = lambda data, began: None  # type: ignore[method-assign]
            bench.agenda.after(0.5, lambda: setattr(bench.standin, "heard", heard))
            return
        heard(data, began)

    bench.standin.heard = deaf_for_a_while  # type: ignore[method-assign]
    result = bench.provision(address=42)
    assert result.evidence == "reading"
    assert "an unsaved change of network was still there after the restart" in result.remarks
    bench.standin.power(False)
    bench.standin.power(True)
    assert bench.standin.flash["net"] == 1 and bench.standin.memory["net"] == 1


def test_a_start_waits_for_a_save_that_goes_on_after_its_acknowledgement(tmp_path: Path) -> None:
    text = (shipped_folder() / "lindle-l9.toml").read_text()
    (tmp_path / "slow.toml").write_text(text.replace('then = ["save"]\n', 'then = ["save"]\nsaves_within = "2s"\n'))
    for lexicon, verdict in (("lindle-l9", "failed"), (str(tmp_path / "slow.toml"), "conforms")):
        bench = Bench("lindle-l9", lexicon, person=True)
        keep = bench.standin.keep
        bench.standin.keep = lambda bench=bench, keep=keep: bench.standin.after(1.5, keep)  # type: ignore[misc,method-assign]
        assert bench.provision(address=42).verdict == verdict


def test_two_starts_show_what_the_second_one_changes() -> None:
    bench = Bench("lindle-l9", person=True)
    start, count = bench.standin.start, [0]

    def clamping() -> None:
        count[0] += 1
        if count[0] == 2:
            bench.standin.flash["addr"] = 0
        start()

    bench.standin.start = clamping  # type: ignore[method-assign]
    assert bench.provision(address=42, prove="twice").verdict == "failed"
    sound = Bench("lindle-l9", person=True).provision(address=42, prove="twice")
    assert (sound.verdict, sound.evidence, sound.starts) == ("conforms", "restart", 2)
    silent = Bench("fennick-z4", person=True).provision(channel=12, prove="twice")
    assert (silent.verdict, silent.status) == ("unproved", 4)
