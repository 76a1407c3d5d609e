"""A lexicon drafted from a recorded session reads without a fault, and most of what the session exercised comes out right."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from benchmarks.drafting import APART, drafted
from benchmarks.wanted import WANTED
from hypothesis import given
from hypothesis import strategies as st

from tests.conftest import virtual, wexicon
from wexicon.core.dialogue.draft import draft_dialogue
from wexicon.core.dialogue.reader import read_dialogue
from wexicon.core.formats.lexicon import read_lexicon
from wexicon.core.protocol.recorded import Recorded, RecordedExchange
from wexicon.core.text import HIDDEN
from wexicon.core.tuning import Tuning
from wexicon.work.drafting.starter import lexicon_from
from wexicon.work.drafting.trace_learning import learn


def session(*turns: tuple[str, str]) -> Recorded:
    """What was said, and the lines heard."""
    return Recorded(
        [RecordedExchange(said, heard=[(0.01, line, "") for line in heard.split("|") if line]) for said, heard in turns]
    )


def test_four_of_five_settings_come_out_right(tmp_path: Path) -> None:
    right = wrong = 0
    for name in WANTED:
        if name not in APART:
            good, bad = drafted(name, tmp_path)
            right, wrong = right + len(good), wrong + len(bad)
    assert right >= 0.8 * (right + wrong), (right, wrong)


@pytest.mark.parametrize("name", APART)
def test_families_made_later_give_a_draft_that_can_be_read(name: str, tmp_path: Path) -> None:
    good, _ = drafted(name, tmp_path)
    assert good


TURNS = (
    ("ID?", "ID HERON-1 2.4 00417|OK"),
    ("NAME?", "NAME heron|OK"),
    ("POWER?", "POWER 5|OK"),
    ("BAUD?", "BAUD 9600|OK"),
    ("ID?", "ID HERON-1 2.4 00417|OK"),
    ("NAME=quay", "OK"),
    ("POWER=99", "ERR 3"),
    ("POWER=14", "OK"),
    ("BAUD=19200", "OK"),
    ("STORE", "OK"),
    ("RESET", ""),
    ("ID?", "ID HERON-1 2.4 00417|OK"),
    ("NAME?", "NAME quay|OK"),
    ("POWER?", "POWER 14|OK"),
    ("BAUD?", "BAUD 19200|OK"),
    ("LAMP?", "LAMP on|OK"),
)


def test_a_session_tells_codes_settings_identity_and_actions() -> None:
    found = learn(session(*TURNS))
    assert (found.ok, found.closing, found.errors) == ("OK", "always", ["ERR {code:int}"])
    assert found.identify == (
        "ID?",
        "ID {model:word} {firmware:word} {serial:word}",
        {"model": "HERON-1", "firmware": "2.4", "serial": "00417"},
    )
    assert [(one.name, one.reads, one.hears, one.writes) for one in found.settings] == [
        ("name", "NAME?", "NAME {value}", "NAME={value}"),
        ("power", "POWER?", "POWER {value}", "POWER={value}"),
        ("baud", "BAUD?", "BAUD {value}", "BAUD={value}"),
    ]
    assert found.actions == {"save": "STORE", "restart": "RESET"}
    assert any("LAMP?" in one for one in found.questions)
    text, _ = lexicon_from(session(*TURNS), "heron")
    made = read_lexicon(text.encode(), "heron.toml")
    assert made.unit == "serial" and made.restart() == "restart"


def test_of_two_success_codes_that_are_as_frequent_the_shorter_one_is_taken() -> None:
    found = learn(session(("A=1", "DONE ALL"), ("B=2", "OK"), ("C=3", "DONE ALL"), ("D=4", "OK")))
    assert found.ok == "OK"
    found = learn(session(("A=1", "OK"), ("B=2", "DONE ALL"), ("C=3", "OK"), ("D=4", "DONE ALL")))
    assert found.ok == "OK"


def test_of_two_lines_that_said_a_value_the_last_one_wrote_it() -> None:
    turns = (("LEVEL?", "LEVEL 4|OK"), ("TAG=17", "OK"), ("MARK=17", "OK"), ("LEVEL?", "LEVEL 17|OK"))
    assert [one.writes for one in learn(session(*turns)).settings] == ["MARK={value}"]


def test_a_repeated_refusal_is_no_success_code_and_a_hidden_value_no_action() -> None:
    turns = (("A=1", "ERROR"), ("B=2", "ERROR"), ("C=3", "OK"), ("D=4", "ERROR"), ("E=5", "OK"))
    assert learn(session(*turns)).ok == "OK"
    hidden = (*TURNS[:9], (f"UNLOCK {HIDDEN}", "OK"), *TURNS[9:])
    assert learn(session(*hidden)).actions == {"save": "STORE", "restart": "RESET"}


def test_what_was_asked_once_is_no_identity() -> None:
    turns = (("ID?", "ID HERON-1 00417|OK"), ("NAME?", "NAME quay|OK"), ("NAME?", "NAME quay|OK"))
    assert learn(session(*turns)).identify is None


def test_a_line_behind_the_success_code_is_an_event_unless_it_answers_too() -> None:
    events = (("A?", "A 1|OK|+LAMP on"), ("B?", "B 2|OK|+STATE 3"))
    turns = (*events, ("C=1", "OK"), ("STATE?", "+STATE 3|OK"), ("STATE?", "+STATE 3|OK"))
    assert learn(session(*turns)).unasked == ["+LAMP on"]


def test_roles_that_a_lexicon_gave_do_not_count() -> None:
    plain = session(*TURNS)
    for one in plain.exchanges:
        one.heard = [(at, text, "event") for at, text, _ in one.heard]
    assert learn(plain) == learn(session(*TURNS))


@pytest.mark.parametrize("turns", [(), (("AT", ""),), (("AT", "{x}|OK"), ("AT+X={", "OK")), (("\\x00", "..."),)])
def test_whatever_was_recorded_gives_a_lexicon_that_can_be_read(turns: tuple[tuple[str, str], ...]) -> None:
    text, _ = lexicon_from(session(*turns), "odd")
    read_lexicon(text.encode(), "odd.toml")


def test_the_draft_of_a_session_on_a_port_reads_the_module(tmp_path: Path) -> None:
    with virtual('[unit.mast]\nstandin = "lindle-l9"\n') as server:
        port, trace = server.ports["mast"], tmp_path / "t.jsonl"
        wexicon(
            "set",
            port,
            "-l",
            "lindle-l9",
            "name=mast 2",
            "address=2",
            "frequency=868.3",
            "spreading=10",
            "--trace",
            str(trace),
        )
        told = wexicon(
            "lexicon", "draft", "--from", str(trace), "--family", "mine", "-o", str(tmp_path / "mine.toml")
        ).stdout
        assert "questions left" in told and "drafted" in told
        assert "no errors" in wexicon("lexicon", "check", str(tmp_path / "mine.toml")).stdout
        shown = wexicon("readout", port, "-l", str(tmp_path / "mine.toml")).stdout
        assert "mast 2" in shown and "868300000" in shown
        wexicon("set", port, "-l", str(tmp_path / "mine.toml"), "name=quay 3")
        assert server.rig.unit("mast").standin.flash["name"] == "quay 3"
    wexicon("lexicon", "draft", status=2)
    wexicon("lexicon", "draft", port, "--from", str(trace), status=2)
    assert (
        "already exists"
        in wexicon("lexicon", "draft", "--from", str(trace), "-o", str(tmp_path / "mine.toml"), status=2).stderr
    )


PIECES = (
    """AT +V? = 0012 "a_b" { } ... <* | \\ # OK > < when 192.0.2.7 A1:B2:C3:D4:E5:F6 (secret) 99999999 [setting.x]"""
)
UNSEEN = ["\r", "\n", "\0", "\udc80", "\t", " ", "\u2028", "\x1b[0m", '"""']
LINES = st.lists(st.sampled_from([*PIECES.split(), *UNSEEN]), max_size=6).map("".join)
ROLES = st.sampled_from(["answer", "ok", "error", "event", "unmatched", "prompt", "corrupt", "unexpected", "word", ""])
HEARD = st.lists(st.tuples(st.floats(0, 2), LINES, ROLES), max_size=3)


@given(st.lists(st.tuples(st.none() | LINES, st.booleans(), HEARD), min_size=1, max_size=8))
def test_whatever_was_recorded_its_drafts_can_be_read_again(made: list[Any]) -> None:
    exchanges = [RecordedExchange(said, exact, Tuning(), heard=heard) for said, exact, heard in made]
    read_dialogue(draft_dialogue(exchanges, "x", Tuning()), "x.wex")
    lexicon_from(Recorded(exchanges), "x")[0].encode()
