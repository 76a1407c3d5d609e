"""One thing said and all that answers it, fed byte by byte."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tests.core.talking import Talk
from wexicon.core.protocol.dialect import OK, Closing, Expectation, Reply, Want
from wexicon.core.protocol.exchange import LINGER, Exchange, LocalProtocolError
from wexicon.core.protocol.patterns import Pattern
from wexicon.core.protocol.speech import Speech


def want(source: str, **keys: Any) -> Want:
    return Want(Pattern(source), **keys)


def talk(
    speech: Speech, expect: Expectation, heard: bytes, said: str = "AT", *, byte_by_byte: bool = True
) -> tuple[Talk, Reply | None]:
    """An exchange whose answer comes a byte a millisecond; what is not ended by then has one second to end."""
    conversation = Talk(speech)
    conversation.begin(said, expect)
    if byte_by_byte:
        for index, byte in enumerate(heard):
            conversation.feed(bytes([byte]), index / 1000)
            conversation.elapse(index / 1000)
    else:
        conversation.feed(heard, 0.001)
    for step in range(12):
        if conversation.outcome is None:
            conversation.elapse(0.1 + step / 10)
    return conversation, conversation.outcome


ALWAYS, ALONE, EITHER = (
    Speech(closing=word, error=("ERR {code:int}",), ok=("OK", "done {how:word}"))
    for word in ("always", "alone", "either")
)


@pytest.mark.parametrize(
    ("speech", "expect", "heard", "how"),
    [
        (ALWAYS, OK, b"OK\r\n", "ok"),
        (ALWAYS, OK, b"done well\r\n", "ok"),
        (ALWAYS, OK, b"ERR 7\r\n", "error"),
        (ALWAYS, OK, b"hello\r\n", "silence"),
        (ALWAYS, OK, b"OK", "silence"),  # half a line is no answer
        (ALWAYS, Expectation((want("+A {x}"),)), b"+A 1\r\nOK\r\n", "ok"),
        (ALWAYS, Expectation((want("+A {x}"),)), b"+A 1\r\n", "silence"),
        (ALWAYS, Expectation((want("+A {x}"),)), b"+A 1\r\nERR 3\r\n", "error"),
        (ALWAYS, Expectation((want("+A {x}"),)), b"OK\r\n", "closed"),
        (ALWAYS, Expectation((want("+A {x}"),), closing=Closing.LENIENT), b"+A 1\r\n", "ok"),
        (ALWAYS, Expectation((want("+A {x}"),), closing="alone"), b"+A 1\r\n", "ok"),
        (ALONE, Expectation((want("+A {x}"),)), b"+A 1\r\n", "ok"),
        (EITHER, Expectation((want("+A {x}"),)), b"+A 1\r\n", "ok"),
        (EITHER, Expectation((want("+A {x}"),)), b"+A 1\r\nOK\r\n", "ok"),
        (EITHER, Expectation((want("+A {x}"), want("+B {y}"))), b"+B 1\r\n+A 2\r\nOK\r\n", "closed"),
        (EITHER, Expectation((want("+A {x}"), want("+B {y}"))), b"+A 2\r\nnoise\r\n+B 1\r\n", "ok"),
        (EITHER, Expectation((want("> ", prompt=True),)), b"\r\n> ", "ok"),
        (EITHER, Expectation((want("> ", prompt=True),)), b"\r\n>x", "silence"),
        (EITHER, Expectation((want("OK"),)), b"OK\r\n", "ok"),
        (EITHER, Expectation((want("{any}"),)), b"OK\r\n", "ok"),
        (EITHER, Expectation((want("{any}"),)), b"ERR 7\r\n", "error"),
        (EITHER, Expectation((want("ERR {n:int}"),)), b"ERR 7\r\n", "ok"),
        (EITHER, Expectation((), (Pattern("NO {why}"),)), b"NO luck\r\n", "other"),
        (EITHER, Expectation((want("+A {x}"),), (Pattern("NO {why}"),)), b"NO luck\r\n", "other"),
        (EITHER, Expectation((want("+A {x}"),)), b"+A 4", "silence"),
        (EITHER, Expectation(silent=True), b"", "ok"),
    ],
)  # fmt: skip
def test_how_an_exchange_ends_is_the_same_byte_by_byte_and_at_once(
    speech: Speech, expect: Expectation, heard: bytes, how: str
) -> None:
    for byte_by_byte in (True, False):
        _, outcome = talk(speech, expect, heard, byte_by_byte=byte_by_byte)
        assert outcome and outcome.status == how
        if how == "error":
            assert outcome.code in ("7", "3")
        if how == "other":
            assert (outcome.which, outcome.captures) == (0, {"why": "luck"})


@given(
    st.lists(st.binary(max_size=20), max_size=8), st.sampled_from(["lines", "silence 20ms", "sentences", "bytes 20ms"])
)
def test_whatever_a_module_sends_an_exchange_ends_in_time(pieces: list[bytes], answer: str) -> None:
    conversation = Talk(Speech(answer=answer, error=("ERR {code:int}",)), {"e": Pattern("+E {n:int} {d:bytes(n)}")})
    conversation.begin("41" if answer.startswith("bytes") else "AT", limit=0.5)
    for index, piece in enumerate(pieces):
        conversation.feed(piece, index / 10)
        conversation.elapse(index / 10)
    conversation.elapse(1.0)
    assert conversation.outcome is not None
    assert conversation.outcome.status in ("ok", "error", "silence")


def test_rows_are_gathered_until_something_else_is_wanted_or_the_answer_ends() -> None:
    rows = b'+N "a",-1\r\n+N "b",-2\r\n'
    gather = want("+N {name:quoted},{level:int}", gather=True)
    for wants, heard, how in (
        ((gather,), rows + b"OK\r\n", "ok"),
        ((gather,), b"OK\r\n", "ok"),
        ((gather, want("total {n:int}")), rows + b"total 2\r\nOK\r\n", "ok"),
        ((gather, want("total {n:int}")), rows + b"OK\r\n", "closed"),
        ((gather, want("OK")), rows + b"OK\r\n", "ok"),
    ):
        _, outcome = talk(ALWAYS, Expectation(wants), heard)
        assert outcome and outcome.status == how
        assert outcome.rows == ([] if heard == b"OK\r\n" else [{"name": "a", "level": -1}, {"name": "b", "level": -2}])


def test_captures_of_one_line_may_be_required_in_the_next() -> None:
    expect = Expectation((want("+A {x:int}"), want("+B {=x}")))
    assert talk(ALONE, expect, b"+A 5\r\n+B 5\r\n")[1].status == "ok"  # type: ignore[union-attr]
    assert talk(ALONE, expect, b"+A 5\r\n+B 6\r\n")[1].status == "silence"  # type: ignore[union-attr]


def test_an_echo_with_no_line_end_is_cut_off() -> None:
    speech = Speech(end="none", answer="silence 20ms", closing="alone")
    conversation, outcome = talk(speech, Expectation((want(":W={who}"),)), b"AT:W?:W=me", "AT:W?", byte_by_byte=False)
    assert outcome and outcome.captures == {"who": "me"}
    # With the echo off the same bytes are an answer like any other.
    _, outcome = talk(
        Speech(end="none", answer="silence 20ms", echo="off"),
        Expectation((want("{all}"),)),
        b"ATOK",
        "AT",
        byte_by_byte=False,
    )
    assert outcome and outcome.captures == {"all": "ATOK"}
    assert conversation.engine.echoes == 1


def test_an_echo_counts_once_and_each_line_of_a_payload_has_its_own() -> None:
    conversation = Talk(Speech(closing="alone"))
    conversation.begin("a\r\nb", Expectation((want("a"),)), exact=True)
    conversation.feed(b"a\r\nb\r\na\r\n", 0.1)
    assert conversation.outcome and conversation.outcome.ok
    assert conversation.roles() == ["echo", "echo", "word"]


def test_the_moment_longer_for_a_yes_that_may_follow_is_short() -> None:
    conversation = Talk(EITHER)
    conversation.begin("AT", Expectation((want("+A {x}"),)))
    conversation.feed(b"+A 1\r\n", 0.1)
    assert conversation.outcome is None and conversation.engine.next_time() == pytest.approx(0.1 + LINGER)
    conversation.elapse(0.1 + LINGER)
    assert conversation.outcome is not None


def test_busy_is_told_with_its_seconds() -> None:
    speech = Speech(busy=("WAIT {wait:int}", "BUSY"))
    for heard, code in ((b"WAIT 3\r\n", "3"), (b"BUSY\r\n", "")):
        _, outcome = talk(speech, OK, heard)
        assert outcome and (outcome.status, outcome.code) == ("busy", code)


def test_sentences_get_their_checksum_and_lose_it_in_patterns() -> None:
    conversation = Talk(Speech(answer="sentences", closing="alone", echo="off"))
    said = conversation.begin("$PPLM,WHO", Expectation((want("$PPLM,WHO,{model:word}"),)))
    assert said == b"$PPLM,WHO*7D\r\n"
    conversation.feed(b"$GPTXT,spoilt*00\r\n$PPLM,WHO,P1*30\r\n", 0.1)
    assert conversation.outcome and conversation.outcome.captures == {"model": "P1"}
    assert conversation.roles() == ["corrupt", "answer"]


def test_bytes_are_said_and_heard_in_hexadecimal() -> None:
    conversation = Talk(Speech(end="none", answer="bytes 20ms", echo="off", error=("5AEE",)))
    assert conversation.begin("5A 10", Expectation((want("5A90{block:hex}"),))) == b"\x5a\x10"
    conversation.feed(b"\x5a\x90\x00", 0.1)
    conversation.feed(b"\xff", 0.11)
    assert conversation.outcome is None
    conversation.elapse(0.14)
    assert conversation.outcome and conversation.outcome.captures == {"block": "00FF"}


def test_an_exchange_goes_one_way_and_misuse_is_told() -> None:
    talk = Talk(ALWAYS)
    talk.begin("AT")
    with pytest.raises(LocalProtocolError, match="has not ended"):
        _ = talk.exchange.outcome
    with pytest.raises(LocalProtocolError, match="while the connection is waiting"):
        talk.begin("AT")
    talk.elapse(1.0)
    with pytest.raises(LocalProtocolError, match="hears nothing"):
        talk.exchange.hear("OK", 1.0)
    later = Exchange(talk.dialect, "AT", OK, 1.0, 2.0)
    talk.engine.begin(later, "AT")
    talk.feed(b"OK\r\n", 1.5)
    assert later.outcome.ok and talk.outcome and talk.outcome.status == "silence"


def test_a_result_code_that_nobody_waits_for_is_a_stray() -> None:
    talk = Talk(ALWAYS, {"peer": Pattern("+PEER {state:word}")})
    talk.feed(b"OK\r\n+PEER up\r\nERR 3\r\nhello\r\n", 0.0)
    assert talk.roles() == ["unexpected", "event", "unexpected", "unmatched"]
    assert [event.text for event in talk.engine.events] == ["+PEER up", "hello"]


def test_a_result_code_is_never_a_row_however_wide_the_pattern() -> None:
    _, outcome = talk(Speech(), Expectation((want("{line}", gather=True),)), b"M1\r\nM2\r\nOK\r\n")
    assert outcome and [row["line"] for row in outcome.rows] == ["M1", "M2"]
