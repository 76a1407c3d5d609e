"""Assertions on what firmware said: each holds where it should, and fails, with the place, where it should not."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from wexicon.core.protocol.line_faults import Side
from wexicon.testing.conversation import Conversation, Line

H, M = Side.HOST, Side.MODULE
TALK = Conversation(
    [
        Line(0.0, H, "AT"),
        Line(0.1, M, "OK"),
        Line(0.2, H, "AT+RATE=57600"),
        Line(0.3, M, "OK"),
        Line(0.4, H, "AT+SAVE"),
        Line(0.5, M, "OK"),
        Line(1.0, None, "power off"),
        Line(1.2, None, "power on"),
        Line(2.9, H, "+++"),
        Line(3.0, M, "OK"),
    ]
)
DEAF = Conversation([*TALK[:8], Line(2.9, H, "+++")])


@pytest.mark.parametrize(
    "holds",
    [
        lambda: TALK.expect_said("AT+RATE={rate:int}"),
        lambda: TALK.expect_said("AT...", times=3),
        lambda: TALK.expect_not_said("AT+PIN=..."),
        lambda: TALK.expect_order("AT", "AT+RATE=...", "AT+SAVE"),
        lambda: TALK.expect_silence("+++", 2.5),
        lambda: TALK.expect_answered("AT+SAVE", "OK"),
        lambda: TALK.expect_back(within=2),
        lambda: TALK.expect_lines("> AT\n< OK\n> AT+RATE={r:int}\n< OK\n> AT+SAVE\n< OK\n> +++\n< OK\n"),
    ],
)
def test_what_is_so_holds(holds: Callable[[], object]) -> None:
    holds()


@pytest.mark.parametrize(
    ("fails", "why", "place"),
    [
        (lambda: TALK.expect_said("AT+NAME"), "the firmware never said AT+NAME", ""),
        (lambda: TALK.expect_said("AT...", times=2), "said AT... 3 times, not 2", "> AT+SAVE"),
        (lambda: TALK.expect_not_said("AT+RATE=..."), "the firmware said AT+RATE=...", "> AT+RATE=57600"),
        (
            lambda: TALK.expect_order("AT+SAVE", "AT+RATE=..."),
            "did not say AT+RATE=... after AT+SAVE",
            "> AT+RATE=57600",
        ),
        (lambda: TALK.expect_order("AT", "AT"), "did not say AT after AT", "> AT"),
        (lambda: TALK.expect_silence("+++", 2.6), "said +++ 2.500 s after AT+SAVE, not 2.6 s", "> +++"),
        (lambda: TALK.expect_answered("AT+SAVE", "ERROR"), "AT+SAVE was not answered ERROR", "> AT+SAVE"),
        (lambda: DEAF.expect_answered("+++", "OK"), "+++ was not answered OK", "> +++"),
        (lambda: TALK.expect_back(within=1), "was back after 1.800 s, not 1 s", "< OK"),
        (lambda: DEAF.expect_back(), "the firmware was not answered", "> +++"),
        (lambda: Conversation(TALK[:8]).expect_back(), "the firmware said nothing", "# power on"),
        (lambda: Conversation(TALK[:6]).expect_back(), "the power was never cut", ""),
        (lambda: TALK.expect_lines("> AT\n< ERROR"), "first difference: expected < ERROR", "< OK"),
        (lambda: TALK.expect_lines("> AT\n> OK"), "first difference: expected > OK", "< OK"),
        (lambda: TALK.expect_lines("> AT\n< OK"), "nothing more was expected", "> AT+RATE=57600"),
        (lambda: Conversation(TALK[:1]).expect_lines("> AT\n< OK"), "the conversation ended before < OK", ""),
    ],
)
def test_what_is_not_so_is_told_with_its_place(fails: Callable[[], object], why: str, place: str) -> None:
    with pytest.raises(AssertionError) as fault:
        fails()
    told = str(fault.value)
    assert why in told.partition("\n")[0]
    marked = [line for line in told.splitlines() if line.startswith("->")]
    assert [line.split("  ")[-1] for line in marked] == ([place] if place else [])


def test_bytes_of_a_wrong_rate_are_shown_escaped() -> None:
    line = Line(0.0, M, "f\udcfff\x1b[31m")
    assert line.show() == "    0.000  < f\\xFFf\\x1B[31m"
