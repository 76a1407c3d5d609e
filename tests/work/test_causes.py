"""For each family and each thing that may be wrong: the module is found all the same, or the message names the cause."""

from __future__ import annotations

import pytest
from benchmarks.wanted import WANTED
from msgspec.structs import replace

from tests.conftest import Bench
from wexicon.core.faults import Unreachable
from wexicon.core.protocol.patterns import Pattern
from wexicon.core.protocol.speech import LINE_ENDS
from wexicon.core.tuning import Tuning
from wexicon.rigs.uart import WireFaults
from wexicon.work.contact.attention import Attention
from wexicon.work.contact.catalog import find_lexicon

FAMILIES = sorted(WANTED)
STRANGE = Tuning(14400)


def gain(one: Bench, hands: bool = True) -> Attention:
    if not hands:
        one.operator.ask = lambda act, text: None  # type: ignore[method-assign]
    made = Attention(one.open(), one.lexicon, one.operator, patience=8)
    made.gain()
    return made


@pytest.mark.parametrize("name", [name for name in FAMILIES if name != "lindle-r2"])
def test_a_wrong_line_end_is_found_out_and_said(name: str) -> None:
    for end in LINE_ENDS:
        one = Bench(name)
        right = one.lexicon.speech.end
        one.lexicon = replace(one.lexicon, dialect=one.lexicon.dialect.with_end(end))
        made = gain(one)
        found = made.session.dialect.speech.end
        # CR LF ends a line for a module that wants either; a shorter one that was asked for and does, stays.
        assert found in (right, "crlf", end)
        assert made.remarks == (
            [] if found == end else [f"the module needs line ending {found}, not {end} as the lexicon says"]
        )


@pytest.mark.parametrize("name", FAMILIES)
def test_a_wrong_rate_is_found_out_or_named(name: str) -> None:
    one = Bench(name)
    lexicon = one.lexicon
    settings = {key: setting for key, setting in lexicon.settings.items() if not setting.kind.rates()}
    attention = replace(lexicon.attention, rate=STRANGE.rate if lexicon.attention.tuning else None)
    one.lexicon = replace(lexicon, factory=STRANGE, settings=settings, attention=attention)
    if lexicon.attention.window:  # the escape is heard for seconds only: too short to try all rates
        with pytest.raises(Unreachable, match=r"which is heard in the first 8\.0 s after power-up only") as fault:
            gain(one)
    elif lexicon.attention.tuning:
        with pytest.raises(Unreachable, match="the module answers in its own words at") as fault:
            gain(one)
        assert "at this rate and not at 14400 8N1" in fault.value.hint
    else:
        assert "not listed in the lexicon" in gain(one).remarks[0]


@pytest.mark.parametrize("name", FAMILIES)
def test_no_power_is_silence_and_says_what_this_family_needs(name: str) -> None:
    one = Bench(name)
    one.standin.power(False)
    with pytest.raises(Unreachable, match="nothing heard") as fault:
        gain(one, hands=False)
    needs = {
        "held-key": "its key held",
        "control-line": "its pins set",
        "escape": "is its escape",
        "always": "no key, pin or escape",
    }
    assert needs[one.lexicon.attention.how] in fault.value.hint


@pytest.mark.parametrize(
    ("name", "told"),
    [
        ("tamsel-k5", "in data mode: at 9600 8N1"),
        ("orvane-b3", "nothing heard"),
        ("lindle-r2", "nothing heard"),
    ],
)
def test_attention_that_was_not_got_is_named(name: str, told: str) -> None:
    one = Bench(name)
    one.open().quiet(9)
    with pytest.raises(Unreachable, match=told):
        gain(one, hands=False)


@pytest.mark.parametrize(
    "name", [name for name in FAMILIES if not find_lexicon(name).speech.in_digits]
)  # which would say nothing that l9 understands
def test_another_family_is_told_by_its_words(name: str) -> None:
    one = Bench("lindle-l9" if name != "lindle-l9" else "brisca-w1")
    one.lexicon = find_lexicon(name)
    with pytest.raises(Unreachable, match=f"unknown answer at .* not from {name}: “(@err|FAULT)") as fault:
        gain(one)
    assert "another family" in fault.value.hint


def test_an_echo_alone_is_no_answer() -> None:
    one = Bench("brisca-w1")
    one.standin.line = lambda line: None  # type: ignore[attr-defined]
    one.standin.editor.line = one.standin.line  # type: ignore[attr-defined]
    one.standin.started = lambda: None  # type: ignore[method-assign]
    one.open().quiet(2)
    heard = one.standin.heard
    one.standin.heard = lambda data, began: one.standin.uart.send(data)  # type: ignore[method-assign]
    assert heard
    with pytest.raises(Unreachable, match="our own lines come back at 115200 8N1, and nothing else") as fault:
        gain(one)
    assert "TX and RX are joined" in fault.value.hint


# -- what the very words say, and what was done before ----------------------------------------------------------------------


def cause_of(one: Bench, hands: bool = True) -> str:
    with pytest.raises(Unreachable) as fault:
        gain(one, hands)
    return f"{fault.value.what} {fault.value.hint}"


@pytest.mark.parametrize("name", [name for name in FAMILIES if find_lexicon(name).start.says])
def test_a_module_that_starts_again_and_again_is_named(name: str) -> None:
    one = Bench(name, faults=WireFaults(restarts=0.35))
    if one.lexicon.attention.power_up:  # which starts as often as the operator has it start
        return
    one.standin.listen = one.standin.ready = lambda *_: None  # type: ignore[attr-defined]
    one.standin.deaf = True  # type: ignore[attr-defined]
    start = Tuning(one.lexicon.start.rate) if one.lexicon.start.rate else one.lexicon.factory
    one.standin.heard = lambda data, began: None  # type: ignore[method-assign]
    one.lexicon = replace(one.lexicon, factory=start, settings={})
    told = cause_of(one)
    assert "the module restarts by itself" in told and "stronger supply" in told


def test_a_peer_that_has_joined_is_named() -> None:
    one = Bench("tamsel-k6")
    one.lexicon = replace(
        one.lexicon,
        attention=replace(one.lexicon.attention, ends_on="peer"),
        dialect=type(one.lexicon.dialect)(one.lexicon.speech, {"peer": Pattern("PEER {state:word}")}),
    )
    one.standin.heard = lambda data, began: one.standin.uart.send(b"PEER joined")  # type: ignore[method-assign]
    told = cause_of(one)
    assert "a peer is connected" in told and "Switch the peer off" in told


def test_a_pending_prompt_is_named_and_how_to_leave_it() -> None:
    one = Bench("cordal-g2")
    one.agenda.run_until(20)
    session = one.session(tuning=one.standin.uart.tuning)
    assert session.exchange("AT+CMGF=1").ok
    session.send(b'AT+CMGS="+441632960002"\r')
    session.quiet(1)
    told = cause_of(one)
    assert "waits for a payload" in told and r"\x1B" in told
    session = one.session(tuning=one.standin.uart.tuning)
    session.send(b"\x1b")
    session.quiet(0.5)
    assert gain(one).held


@pytest.mark.parametrize(
    "name", [n for n in FAMILIES if find_lexicon(n).settings and n not in ("cordal-g2", "cordal-n7")]
)
def test_silence_after_a_change_of_rate_is_named(name: str) -> None:
    one = Bench(name)
    lexicon = one.lexicon
    rate = next(setting for setting in lexicon.settings.values() if setting.kind.rates())
    if rate.moves_link != "at-once":
        return
    one.agenda.run_until(2.5)
    module = one.module()
    module.attention.gain()
    wanted = next(other for other in rate.kind.rates() if other != one.standin.uart.tuning.rate)
    tuning = one.standin.uart.tuning
    one.standin.after(0.02, lambda: setattr(one.standin.uart, "to_host", lambda data: None))
    module.session.quiet(0.1)
    with pytest.raises(Unreachable) as fault:
        module.attention.prove([replace(tuning, rate=wanted), tuning])
    assert f"it answered at {tuning} until it was switched to {wanted} 8N1" in fault.value.what


def test_an_error_to_everything_is_named() -> None:
    one = Bench("brisca-w1")
    one.agenda.run_until(2)
    one.standin.editor.line = lambda line: one.standin.fault(2)  # type: ignore[attr-defined]
    assert "answers every line with an error at 115200 8N1: “FAULT" in cause_of(one)


def test_a_key_let_go_and_a_missed_window_are_named() -> None:
    one = Bench("tamsel-k5")
    one.standin.operate = lambda act: None  # type: ignore[method-assign]
    one.standin.mode = "half"  # type: ignore[attr-defined]
    one.standin.uart.tuning = Tuning(57600)
    one.agenda.run_until(1)
    one.standin.mode = "half"  # type: ignore[attr-defined]
    one.standin.uart.tuning = Tuning(57600)
    assert "The key was released too early" in cause_of(one)
    other = Bench("orvane-b3")
    other.open().quiet(9)
    assert "in the first 8.0 s after power-up only" in cause_of(other, hands=False)


def test_a_module_that_must_be_unlocked_says_so_and_no_try_is_spent() -> None:
    one = Bench("wherry-c3", code="squall")
    one.agenda.run_until(1)
    result = one.read_out()
    assert result.status == 1 and result.failure and "locked" in f"{result.failure.what} {result.failure.next}"
    assert one.standin.flash["tries"] == 3
