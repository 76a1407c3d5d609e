"""A small part of the campaign of `benchmarks.truth`, and each verdict that was once false, one by one."""

from __future__ import annotations

import json
import random
import signal
import subprocess
import sys
import time
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import pytest
from benchmarks.adversities import ADVERSITIES
from benchmarks.flash import wrong_in_flash
from benchmarks.truth import once, together
from benchmarks.wanted import WANTED
from msgspec.structs import replace

from tests.conftest import Bench, bench, clean, virtual, wexicon
from wexicon.cli.printing import why_unproved
from wexicon.core.faults import ModuleFault
from wexicon.core.formats.lexicon import Lexicon, Moves
from wexicon.core.module_state.starts import is_start_text
from wexicon.core.results.result import Evidence, Outcome, Prove, Verdict
from wexicon.core.results.unit import SettingResult, Unfinished, UnitResult, judge
from wexicon.core.tuning import Tuning
from wexicon.core.values import FrameKind
from wexicon.rigs.uart import WireFaults
from wexicon.work.provisioning.run import provision
from wexicon.work.provisioning.unfinished import FileStore


@pytest.mark.parametrize("adversity", [*ADVERSITIES, *together(random.Random(1), 20)])
def test_nothing_that_a_result_claims_is_false(adversity: str) -> None:
    chance = random.Random(adversity)
    for name in chance.sample(sorted(WANTED), 6):
        assert once(name, adversity, chance.randrange(40)).false == [], name


def after_power(one: Bench) -> dict[str, Any]:
    one.standin.power(False)
    one.standin.power(True)
    return one.standin.flash


# -- interrupted before save or restart ---------------------------------------------------------------------------------


@pytest.mark.parametrize("person", [True, False])
def test_what_stands_in_working_memory_only_is_found_and_made_to_persist(person: bool) -> None:
    one = Bench("lindle-l9", person=person)
    one.open().quiet(0.3)
    one.standin.memory["addr"] = 42
    result = one.provision(address=42)
    assert (result.verdict, result.written) == ("conforms", 1)
    assert [str(line.outcome) for line in result.settings] == ["changed"]
    assert result.remarks == ["address read right but was not saved: a restart undid it"]
    assert after_power(one)["addr"] == 42


def test_where_no_start_can_be_made_what_makes_settings_persist_is_done_again() -> None:
    one = Bench("fennick-z4", person=True)
    one.standin.memory["KH"] = 12
    result = one.provision(channel=12)
    assert (result.verdict, result.evidence, result.written) == ("conforms", "reading", 0)
    assert after_power(one)["KH"] == 12 and "SV" in one.trace.said()


def test_a_rate_that_is_stored_and_not_in_use_is_found() -> None:
    one = Bench("orvane-b3", person=True)
    one.standin.flash["b"] = "h"  # written by an interrupted run; the module still answers at 115200
    looked = one.verify(rate=19200)
    (line,) = looked.settings
    assert line.outcome == Outcome.UNVERIFIED and line.note.startswith("stored, active after restart")
    assert looked.verdict == "unproved"
    one = Bench("orvane-b3", person=True)
    one.standin.flash["b"] = "h"
    assert one.provision(rate=19200).evidence == "warm-restart"
    assert one.standin.uart.tuning == Tuning(19200)


def test_killed_between_write_and_save_on_a_port_the_next_run_knows_and_finishes(tmp_path: Path) -> None:
    (tmp_path / "s.toml").write_text(
        'format = 1\n[seat.mast]\nlexicon = "lindle-l9"\n[seat.mast.settings]\naddress = 42\nname = "mast 4"\n'
    )
    with bench('[unit.x]\nstandin = "lindle-l9"\nfaults = { late = 0.15 }\n') as rig:
        port = rig.ports["x"]
        words = [
            sys.executable,
            "-m",
            "wexicon",
            "provision",
            "s.toml",
            port,
            "--operator",
            "nobody",
            "--trace",
            "t.jsonl",
        ]
        running = subprocess.Popen(words, stderr=subprocess.PIPE, env=clean({}))
        until = time.monotonic() + 60
        while time.monotonic() < until and b"@addr=" not in (
            Path("t.jsonl").read_bytes() if Path("t.jsonl").exists() else b""
        ):
            time.sleep(0.01)
        running.kill()
        running.communicate()
        assert list((tmp_path / "state" / "unfinished").glob("*.json"))
        told = wexicon("provision", "s.toml", port, "--operator", "nobody").stdout
        assert "resuming work started" in told and "conforms" in told and "after a restart" in told
        wexicon("rig", "power", "x", "cycle")
        wexicon("verify", "s.toml", port)
        assert rig.rig.units["x"].standin.flash["addr"] == 42
        assert not list((tmp_path / "state" / "unfinished").glob("*.json"))


def test_a_request_to_end_stops_between_two_exchanges_with_a_result(tmp_path: Path) -> None:
    (tmp_path / "s.toml").write_text('format = 1\n[seat.mast]\nlexicon = "lindle-l9"\nsettings = { address = 42 }\n')
    with bench('[unit.x]\nstandin = "lindle-l9"\nfaults = { late = 0.2 }\n') as rig:
        words = [sys.executable, "-m", "wexicon", "provision", "s.toml", rig.ports["x"], "--trace", "t.jsonl", "--json"]
        running = subprocess.Popen(words, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, env=clean({}))
        until = time.monotonic() + 60
        while time.monotonic() < until and not Path("t.jsonl").exists():
            time.sleep(0.02)
        time.sleep(0.5)
        running.send_signal(signal.SIGTERM)
        told, _ = running.communicate(timeout=60)
    assert running.returncode == 130 and json.loads(told)["verdict"] == "stopped"
    assert all(line["after"] is None for line in json.loads(told)["settings"])


# -- what cannot be read ------------------------------------------------------------------------------------------------


def test_verify_of_a_pin_that_is_another_is_unproved() -> None:
    one = Bench("tamsel-k6", P="9999")
    result = one.verify(pin="4711")
    assert (result.verdict, result.status) == ("unproved", 4)
    assert [str(line.outcome) for line in result.settings] == ["unverified"]


def unreadable_rate(one: Bench, codes: dict[str, Any] | None = None) -> None:
    """The rate cannot be asked; only the link tells it. `codes` are a lexicon's that may be wrong."""
    setting = one.lexicon.settings["rate"]
    kind = replace(setting.kind, codes=codes) if codes else setting.kind
    blind = replace(setting, reads="link", group="", in_group=None, kind=kind)
    one.lexicon = replace(one.lexicon, settings={**one.lexicon.settings, "rate": blind})


def test_a_rate_that_only_the_link_shows_is_read_from_the_link() -> None:
    one = Bench("tamsel-k6")
    unreadable_rate(one)
    result = one.provision(rate=57600)
    assert result.verdict == "conforms" and result.settings[0].after and result.settings[0].after.value == 57600
    wrong = Bench("tamsel-k6")
    # The lexicon's table is wrong: its code for 57600 is the module's for 19200.
    unreadable_rate(wrong, {"9600": "P", "57600": "M", "19200": "J"})
    result = wrong.provision(rate=57600)
    assert result.verdict == "failed"
    line = result.settings[0]
    assert line.outcome == "differs" and line.after and line.after.value == 19200


# -- read back too early, rates that move late -----------------------------------------------------------------------------


@pytest.mark.parametrize("name", ["lindle-l9", "brisca-w1", "orvane-b3", "polmar-p1", "tamsel-k5"])
@pytest.mark.parametrize("extra", [0.05, 0.5])
def test_a_module_that_goes_on_answering_has_not_started_yet(name: str, extra: float) -> None:
    one = Bench(name, person=True)
    then = one.standin.then
    one.standin.then = lambda action, delay=None: then(lambda: one.standin.after(extra, action), delay)  # type: ignore[method-assign]
    result = one.provision(**WANTED[name])
    assert result.verdict == "conforms", result.failure
    # orvane-b3 has no witness: nothing shows that its restart loads what is saved.
    others = {"tamsel-k5": Evidence.POWER, "orvane-b3": Evidence.WARM}
    assert result.evidence == others.get(name, Evidence.RESTART)
    assert not wrong_in_flash(one.standin, WANTED[name])


def test_a_restart_that_was_not_seen_is_not_believed() -> None:
    one = Bench("lindle-l9", person=True)
    one.standin.restart = lambda: None  # type: ignore[method-assign]
    one.open().quiet(0.2)
    one.standin.memory["addr"] = 42
    result = one.provision(address=42)
    assert (result.evidence, result.verdict, result.status) == ("reading", "unproved", 4)
    assert result.missing.startswith(
        "a restart was ordered, and nothing shows that the module started; not seen: silence"
    )
    assert after_power(one)["addr"] == 42  # saved again, because nobody could tell that it was
    asked = one.provision(address=42, prove="restart")
    assert (asked.verdict, asked.status) == ("unproved", 4)


# -- after is only ever what was read ----------------------------------------------------------------------------------------


def test_after_a_failure_or_a_stop_nothing_is_said_of_what_was_not_read() -> None:
    one = Bench("lindle-l9", faults=WireFaults(cut_after=150))
    one.operator.operate = None  # type: ignore[attr-defined]
    result = one.provision(stopping=lambda: "@addr=2" in one.trace.said(), **WANTED["lindle-l9"])
    assert result.verdict == "stopped" and result.written
    assert {str(line.outcome) for line in result.settings} == {"not read"}
    assert all(line.after is None and line.before is not None for line in result.settings)


def test_a_read_out_that_did_not_understand_everything_fails_and_shows_what_was_heard() -> None:
    one = Bench("tamsel-k5")
    one.standin.flash["part"] = "X"
    result = one.read_out()
    assert (result.verdict, result.status) == ("failed", 1)
    assert result.failure and "role: not understood" in result.failure.what and "“X (unknown)”" in result.failure.what
    assert next(line for line in result.settings if line.name == "name").before.shown == "TAMSEL-K5"  # type: ignore[union-attr]


# -- links that move, actions that reset -------------------------------------------------------------------------------------


def test_after_a_reset_no_rate_is_pending() -> None:
    one = Bench("tamsel-k5")
    module = one.module()
    module.attention.gain()
    module.set("rate", 115200)
    assert module.state.pending
    module.do("factory-reset")
    assert not module.state.pending and module.data_link == one.lexicon.factory


def test_a_probe_that_is_refused_is_said_again_before_an_escape_would_spoil_the_next_line() -> None:
    one = Bench("fennick-z4")
    module = one.module()
    module.attention.gain()
    one.standin.editor._buffer += b"\x00\xff"  # type: ignore[attr-defined]  # what it heard of us at another rate
    escapes = one.trace.said().count("~~~")
    module.attention.gain([Tuning(9600)])
    assert one.trace.said().count("~~~") == escapes
    began = one.agenda.now
    assert module.read("channel") == 5 and one.agenda.now - began < 1  # attention is counted from when it was had


def test_another_module_that_takes_the_place_of_the_first_is_noticed() -> None:
    one = Bench("lindle-l9")
    one.open().quiet(0.2)

    def swap() -> bool:
        if "@save" in one.trace.said():
            one.standin.own["serial"] = "L9-00999"
        return False

    result = one.provision(stopping=swap, address=2)
    assert result.verdict == "failed" and result.failure
    assert "another module answers: its serial is L9-00999, it was L9-00417" in result.failure.what


def test_a_value_of_a_group_that_was_not_named_and_moved_is_told() -> None:
    one = Bench("lindle-l9")
    take = one.standin.take  # type: ignore[attr-defined]

    def moved(word: str, text: str) -> None:
        take(word, text.replace("868100000", "869100000") if word == "radio" else text)

    one.standin.take = moved  # type: ignore[attr-defined]
    result = one.provision(spreading=10)
    assert result.verdict == "unproved" and result.failure is None
    told = [
        (one.name, one.before.shown, one.after.shown, one.note)
        for one in result.settings
        if one.outcome == "side effect"
    ]  # type: ignore[union-attr]
    assert told == [("frequency", "868.1 MHz", "869.1 MHz", "not ordered")]


def test_what_is_kept_only_until_power_is_lost_conforms_and_says_so() -> None:
    one = Bench("lindle-l9")
    setting = replace(one.lexicon.settings["sync"], volatile=True)
    one.lexicon = replace(one.lexicon, settings={**one.lexicon.settings, "sync": setting})
    result = one.provision(sync=0x34, address=2)
    notes = {line.name: (str(line.outcome), line.note) for line in result.settings}
    assert notes == {"address": ("changed", ""), "sync": ("changed", "until power is lost")}
    assert (result.verdict, one.standin.memory["sync"], one.standin.flash["addr"]) == ("conforms", "34", 2)


def test_nothing_is_written_to_a_module_that_nobody_could_bring_back() -> None:
    one = Bench("tamsel-k5", person=True)
    module = one.module()
    module.attention.gain()  # somebody had held the key
    one.operator.there = False
    result = one.provision(name="Quay 3")
    assert result.verdict == "failed" and result.written == 0 and result.failure
    assert "no operator can restore command mode" in result.failure.what


# -- verdicts and records --------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("outcomes", "evidence", "asked", "trust", "verdict"),
    [
        (["unchanged", "changed"], "power-cycle", "auto", [], "conforms"),
        (["unchanged"], "reading", "auto", [], "conforms"),
        (["unchanged"], "reading", "restart", [], "unproved"),
        (["unchanged"], "restart", "power", [], "unproved"),
        (["unchanged"], "power-cycle", "restart", [], "conforms"),
        (["unchanged", "accepted"], "power-cycle", "auto", [], "unproved"),
        (["unchanged", "accepted"], "power-cycle", "auto", ["s1"], "conforms"),
        (["unchanged", "unverified"], "power-cycle", "auto", ["s1"], "unproved"),
        (["unchanged", "differs"], "power-cycle", "auto", [], "failed"),
        (["refused"], "power-cycle", "auto", [], "failed"),
        (["not read"], "power-cycle", "auto", [], "failed"),
    ],
)
def test_what_decides_a_verdict(outcomes: list[str], evidence: str, asked: str, trust: list[str], verdict: str) -> None:
    settings = [SettingResult(f"s{n}", Outcome(one)) for n, one in enumerate(outcomes)]
    assert judge(settings, Evidence(evidence), Prove(asked), trust)[0] is Verdict(verdict)


def test_a_record_of_unfinished_work_names_settings_and_no_values(tmp_path: Path) -> None:
    store = FileStore(tmp_path / "unfinished")
    assert store.find("k5 02:A1") is None
    store.open(Unfinished("k5 02:A1", datetime.now(UTC), ["pin"]))
    (path,) = (tmp_path / "unfinished").iterdir()
    assert oct(path.stat().st_mode)[-3:] == "600" and oct(path.parent.stat().st_mode)[-3:] == "700"
    assert store.find("k5 02:A1") and b"pin" in path.read_bytes()
    path.write_bytes(b"{")
    assert store.find("k5 02:A1")  # a record that cannot be read is still a record
    store.close("k5 02:A1")
    assert not list((tmp_path / "unfinished").iterdir())


def test_values_stand_as_their_types_beside_the_words_that_show_them() -> None:
    result = Bench("lindle-l9").provision(rate=115200, frequency=868.3)
    shown = {line.name: (line.after.value, line.after.unit, line.after.shown) for line in result.settings if line.after}
    assert shown["rate"] == (115200, "baud", "115200 baud") and shown["frequency"] == (868.3, "MHz", "868.3 MHz")
    assert result.started and result.steps[0].step == "attention" and result.wexicon


# -- nothing else changed, what was ordered came, what the tool writes is a write ----------------------------------------------


def loses_its_first_save(one: Bench) -> None:
    keep, left = one.standin.keep, [1]

    def kept() -> None:
        if left:
            left.pop()
        else:
            keep()

    one.standin.keep = kept  # type: ignore[method-assign]


def test_after_a_start_that_undid_anything_what_cannot_be_read_is_written_again_too() -> None:
    one, key = Bench("osier-w2"), WANTED["osier-w2"]["app-key"]
    loses_its_first_save(one)
    order = replace(one.order(**{"data-rate": 3, "app-key": key}), trust=("app-key",))
    result = provision(one.module(), order, store=one.store)
    assert result.verdict == "conforms" and result.trusted == ["app-key"], result.failure
    assert (one.standin.flash["DR"], one.standin.flash["APPKEY"].upper()) == ("3", key)


def resets_its_network(one: Bench) -> None:
    """A write of its power sets the network back to its factory default."""
    one.standin.memory["net"] = one.standin.flash["net"] = 7
    take = one.standin.take  # type: ignore[attr-defined]

    def moved(word: str, text: str) -> None:
        take(word, text)
        if word == "name":
            one.standin.memory["net"] = 1

    one.standin.take = moved  # type: ignore[attr-defined]


def test_a_setting_that_nobody_ordered_and_that_differs_is_a_side_effect_unless_it_is_allowed() -> None:
    one = Bench("lindle-l9")
    resets_its_network(one)
    result = one.provision(name="quay 3")
    told = {line.name: line for line in result.settings}["network"]
    assert told.before and told.after and (told.before.value, told.after.value, told.outcome) == (7, 1, "side effect")
    assert (result.verdict, result.status, one.standin.flash["net"]) == ("unproved", 4, 1)
    for allowed, lexicon in (
        (("network",), one.lexicon),
        ((), with_setting(one.lexicon, "name", also_changes=("network",))),
        ((), with_setting(one.lexicon, "network", varies=True)),
    ):
        one = Bench("lindle-l9")
        one.lexicon = lexicon
        resets_its_network(one)
        order = replace(one.order(name="quay 3"), side_effects=allowed)
        result = provision(one.module(), order, store=one.store)
        outcomes = [line.outcome for line in result.settings if line.name == "network"]
        varies = lexicon.settings["network"].varies
        assert result.verdict == "conforms" and outcomes == ([] if varies else ["allowed side effect"])
        assert not varies or "network: another value than before" in result.remarks[-1]


def test_a_question_before_the_first_write_that_ends_the_run_leaves_nothing_changed() -> None:
    one = Bench("lindle-l9")
    module = one.module()

    def another(*given: object, **more: object) -> None:
        raise ModuleFault("this is another module", hint=module.session.unchanged())

    module.surely = another  # type: ignore[method-assign, assignment]
    result = provision(module, one.order(name="quay 3"), store=one.store)
    assert result.failure and "Nothing was changed" in result.failure.next and result.written == 0


def test_a_secret_that_nobody_ordered_and_that_differs_is_a_side_effect_and_not_shown() -> None:
    one = Bench("tamsel-k5", person=True)
    take = one.standin.take  # type: ignore[attr-defined]

    def resets_its_pin(word: str, text: str) -> None:
        take(word, text)
        one.standin.memory["pass"] = "493817"

    one.standin.memory["pass"] = one.standin.flash["pass"] = "605241"
    one.standin.take = resets_its_pin  # type: ignore[attr-defined]
    result = one.provision(name="Withy Point")
    told = {line.name: line for line in result.settings}["pin"]
    assert (one.standin.flash["pass"], result.verdict, told.outcome) == ("493817", "unproved", "side effect")
    assert told.before and told.after and told.before.shown == told.after.shown == "(secret)"
    kept = str([result, one.trace.all, one.store.find(result.unit)])
    assert "605241" not in kept and "493817" not in kept


def with_setting(lexicon: Lexicon, name: str, **changed: Any) -> Lexicon:
    return replace(lexicon, settings={**lexicon.settings, name: replace(lexicon.settings[name], **changed)})


def test_a_witness_that_a_restart_has_saved_is_put_back_saved_and_read() -> None:
    one = Bench("lindle-l9", person=True)
    restart = one.standin.restart

    def saving() -> None:
        one.standin.keep()
        restart()

    one.standin.restart = saving  # type: ignore[method-assign]
    result = one.provision(address=42)
    assert (result.verdict, after_power(one)["net"], after_power(one)["addr"]) == ("unproved", 1, 42)
    assert "an unsaved change of network was still there after the restart" in result.remarks
    # A module that is right already is not written to at all.
    before = len(one.trace.said())
    again = one.provision(address=42)
    assert again.written == 0 and not [line for line in one.trace.said()[before:] if "=" in line]


def test_a_dead_fixture_leaves_what_was_stored_unproved() -> None:
    one = Bench("lindle-l9")
    one.operator.operate = lambda act: None  # type: ignore[attr-defined]
    one.standin.keep = lambda: None  # type: ignore[method-assign]
    one.standin.operate = lambda act: None  # type: ignore[method-assign]
    result = one.provision(address=42)
    assert (result.verdict, result.status, result.evidence) == ("unproved", 4, "reading")
    assert result.missing.startswith("the module answers while its power is off")


def test_a_frame_that_another_one_understands_too_is_not_proved_by_the_link() -> None:
    for codes, outcome in ((["8N1", "8N2"], "unverified"), (["8N1", "8E1"], "unchanged")):
        one = Bench("lindle-l9")
        kind = FrameKind(codes=dict.fromkeys(codes, "x") | {codes[1]: "y"})
        frame = replace(one.lexicon.settings["power"], name="frame", kind=kind, reads="link", moves_link=Moves.AT_ONCE)
        one.lexicon = replace(one.lexicon, settings={**one.lexicon.settings, "frame": replace(frame, factory="8N1")})
        result = one.provision(frame="8N1")
        assert [line.outcome for line in result.settings] == [outcome], result.settings


def test_a_row_that_was_damaged_is_not_left_out_of_a_list() -> None:
    one = Bench("marram-c2")
    one.agenda.run_until(3)
    one.provision(networks=["quay", "slip", "mole"])
    sent = one.standin._sent
    one.standin._sent = lambda data: sent(data.replace(b" slip", b"# slip"))  # type: ignore[method-assign]
    result = one.verify(networks=["quay", "mole"])
    (line,) = result.settings
    assert result.verdict == "failed" and "has a line inside that no pattern takes" in line.note, line


def test_a_value_that_is_broken_over_two_lines_is_not_understood() -> None:
    one = Bench("tamsel-k5")
    one.agenda.run_until(1)
    sent = one.standin._sent
    one.standin._sent = lambda data: sent(data.replace(b"quay 3", b"qua\r\ny 3"))  # type: ignore[method-assign]
    one.standin.memory["label"] = one.standin.flash["label"] = "quay 3"
    result = one.read_out()
    (name,) = [line for line in result.settings if line.name == "name"]
    assert "has a line inside that no pattern takes: “y 3”" in name.note and name.before and name.before.value is None


@pytest.mark.parametrize("family", ["lindle-l9", "fennick-z4"])
def test_no_value_that_is_broken_over_two_lines_is_believed_where_no_result_code_ends_an_answer(family: str) -> None:
    one = Bench(family)
    one.agenda.run_until(3)
    sent = one.standin._sent
    one.standin._sent = lambda data: sent(data.replace(b"quay 3", b"qua\r\ny 3"))  # type: ignore[method-assign]
    one.standin.memory["name"] = one.standin.flash["name"] = "quay 3"
    result = one.read_out()
    assert result.verdict == "failed" and "cannot be read reliably" in result.failure.what
    assert not [line for line in result.settings if line.before]


def test_what_changed_beside_is_told_with_what_allows_it() -> None:
    one = Bench("lindle-l9")
    resets_its_network(one)
    result = one.provision(name="quay 3")
    assert "Not ordered: network was 7, and is 1" in why_unproved(result) and "side_effects" not in why_unproved(result)
    result.sheet = "x"
    assert 'side_effects = ["network"] in the seat' in why_unproved(result)


def test_a_sheet_allows_only_side_effects_that_there_can_be() -> None:
    seat = 'format = 1\n[seat.m]\nlexicon = "lindle-l9"\nsettings = { name = "m" }\n'
    for allowed, fault in (("power", ""), ("nme", "there is no setting nme"), ("name", "name is among the settings")):
        Path("s.toml").write_text(seat + f'side_effects = ["{allowed}"]\n')
        status = 2 if fault else 0
        assert fault in wexicon("rehearse", "s.toml", status=status).stderr


def test_where_each_start_is_announced_a_silence_alone_is_no_power_cycle() -> None:
    """The module is deaf for a second, and nobody takes its power away."""
    one = Bench("brisca-w1")
    one.agenda.run_until(3)

    def deaf(act: str) -> None:
        heard = one.standin.heard
        if act == "power-off":
            one.standin.heard = lambda data, began: None  # type: ignore[method-assign]
            one.agenda.after(1.0, lambda: setattr(one.standin, "heard", heard))

    one.operator.operate = deaf  # type: ignore[attr-defined]
    one.operator.ask = lambda act, text: deaf(act)  # type: ignore[attr-defined]
    result = one.provision(power=17)
    assert (result.verdict, result.evidence) == ("unproved", "reading") and "READY" in result.missing


def test_a_rate_is_not_proved_by_a_module_that_loses_the_first_line_at_each_rate() -> None:
    one = Bench("wherry-c3")
    one.agenda.run_until(3)
    uart, came = one.standin.uart, one.standin.uart.from_host

    def follows(data: bytes) -> None:
        if uart.tuning != uart.host:
            uart.tuning = uart.host
            return
        came(data)

    module = one.module()
    module.attention.gain([one.lexicon.factory])
    uart.from_host = follows  # type: ignore[method-assign]
    assert not module.only_here()


def test_a_start_text_behind_legible_words_is_no_start() -> None:
    lexicon = Bench("brisca-w1").lexicon
    assert is_start_text(lexicon, "READY") and is_start_text(lexicon, "\x80\xff\x1aREADY")
    assert not is_start_text(lexicon, "+RADIO: READY")


def test_a_port_that_answers_as_another_of_its_modules_is_refused() -> None:
    one = Bench("marram-c2")
    one.agenda.run_until(3)
    sent = one.standin._sent
    one.standin._sent = lambda data: sent(data.replace(b"radio 2\r\nc2> ", b"radio 1\r\nc2> "))  # type: ignore[method-assign]
    with pytest.raises(ModuleFault, match="module 2 behind this port was chosen, and it answered as 1"):
        one.module().attention.gain([replace(one.lexicon.factory, station=2)])


@pytest.mark.parametrize(("key", "says"), [("afterwards", "address differs"), ("before", "")])
def test_what_the_dialogues_of_a_sheet_write_is_read_and_kept_for_restore(key: str, says: str) -> None:
    Path("d.wex").write_text("> @addr=9\n> @save\n")
    wanted = "address = 4" if key == "afterwards" else 'name = "quay 3"'
    Path("s.toml").write_text(
        f'format = 1\n[seat.m]\nlexicon = "lindle-l9"\nsettings = {{ {wanted} }}\n{key} = ["d.wex"]\n'
    )
    with virtual('[unit.m]\nstandin = "lindle-l9"\n') as rig:
        told = wexicon("provision", "s.toml", "m", "--operator", "rig", status=1 if says else 0)
        assert says in told.stdout + told.stderr and rig.rig.units["m"].standin.flash["addr"] == 9
        if key == "before":
            assert "allowed side effect" in told.stdout
            wexicon("restore", "m", "m", "--operator", "rig")
            # As it was before the sheet's own dialogue.
            assert rig.rig.units["m"].standin.flash["addr"] == 0


def test_a_second_reading_is_no_weaker_proof_than_was_required() -> None:
    for required, verdict in ((Prove.POWER, "unproved"), (Prove.AUTO, "conforms")):
        line = SettingResult("pin", Outcome.ACCEPTED)
        first = UnitResult(
            verdict=Verdict.CONFORMS, evidence=Evidence.POWER, settings=[line], trust=["pin"], trusted=["pin"]
        )
        again = UnitResult(
            verdict=Verdict.UNPROVED, evidence=Evidence.READING, settings=[SettingResult("pin", Outcome.UNVERIFIED)]
        )
        first.read_again(again, required)
        assert (first.verdict, first.evidence, first.trusted) == (verdict, "reading", ["pin"])
