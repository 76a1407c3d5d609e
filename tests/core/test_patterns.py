"""Captures, and that no pattern takes more than linear time."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from wexicon.core.protocol.elements import parts_of
from wexicon.core.protocol.matching import MatchAttempt
from wexicon.core.protocol.patterns import KINDS, Pattern, PatternFault


@pytest.mark.parametrize(
    ("source", "text", "captures"),
    [
        ("+LABEL {value}", "+LABEL ", {"value": ""}),
        ("ERR {code:int}", "ERR -12", {"code": -12}),
        ("ERR {code:int}", "ERR x", None),
        ("{a} at {b:decimal}m", "tide at noon at 3.50m", {"a": "tide at noon", "b": Decimal("3.50")}),
        ('+A ({w:word},{q:quoted})', '+A (x1,"he, y")', {"w": "x1", "q": "he, y"}),
        ("+ID {a:address},{h:hex}", "+ID 02:A1:5C,0F", {"a": "02:A1:5C", "h": "0F"}),
        ("+IN {n:int} {d:bytes(n)}", "+IN 3 aé", {"n": 3, "d": "aé"}),
        ("+IN {n:int} {d:bytes(n)}", "+IN 4 aé", None),
        ("{all:list}", '1,"b", 3', {"all": ["1", "b", "3"]}),
        ("...{n:int}", "abc 12 d 13", {"n": 13}),
        ("a...b...c", "a-b-b-c", {}),
        ("a...b...c", "a-c-b", None),
        ("{x:word},{=x}", "7,7", {"x": "7"}),
        ("{x:int}={=x}", "7=8", None),
        ("{{{x:int}}}", "{7}", {"x": 7}),
        ("wait{...} {x:int}", "wait... 7", {"x": 7}),
        ("wait{...}", "wait for it", None),
    ],
)  # fmt: skip
def test_captures(source: str, text: str, captures: dict[str, Any] | None) -> None:
    assert Pattern(source).match(text) == captures


def test_it_tells_where_the_two_part() -> None:
    pattern = Pattern("+LABEL {value:int} baud")
    assert pattern.match("+LABEL 13 bits") is None
    assert pattern.reach("+LABEL 13 bits") == len("+LABEL 13 b")


@pytest.mark.parametrize(
    ("source", "column"),
    [("{a", 1), ("ab{a:no}", 4), ("}", 1), ("{a}{b}", 5), ("{n:bytes}", 2), ("{=a:int}", 2), ("{a}x{=a}", 6)],
)
def test_faults_have_a_column(source: str, column: int) -> None:
    with pytest.raises(PatternFault) as fault:
        Pattern(source)
    assert fault.value.column == column


@given(st.text(alphabet="{}=:.,()abint<> \\", max_size=30), st.text(max_size=30))
def test_any_text_is_a_pattern_or_a_fault(source: str, text: str) -> None:
    try:
        pattern = Pattern(source)
    except PatternFault:
        return
    pattern.match(text)


PARTS = st.sampled_from(
    ["a", "1", ",", '"', "-1", "a1", "...", "+A ", *(f"{{{{v{{0}}{':' * bool(k)}{k}}}}}" for k in ("", *KINDS[1:-1]))]
)


@example(["...", '"', "{{v{0}}}", '"', "a"], 'x"1"a')
@given(st.lists(PARTS, min_size=1, max_size=6), st.text('a1,"-.+ Aé', max_size=12))
def test_one_regular_expression_says_what_the_careful_matcher_says(parts: list[str], text: str) -> None:
    try:
        pattern = Pattern("".join(part.format(number) for number, part in enumerate(parts)))
    except PatternFault:
        return
    careful = MatchAttempt(pattern._parts, text, {}).run() if text.startswith(pattern.start) else None
    assert pattern.match(text) == careful


@given(
    st.lists(PARTS | st.just("{{=k}}"), min_size=2, max_size=7),
    st.sampled_from(["1", "x", '"', "ab", "1:", "a,", "é1", "-1 "]),
)
def test_the_work_is_linear_in_the_line(parts: list[str], unit: str) -> None:
    """Ten times the line is ten times the steps, never the square; steps are counted, not timed."""
    try:
        elements = Pattern("".join(part.format(number) for number, part in enumerate(parts))).elements
    except PatternFault:
        return

    def steps(count: int) -> int:
        attempt = MatchAttempt(parts_of(elements), unit * count, {"k": unit})
        attempt.run()
        return attempt.steps

    assert steps(2000) < 11 * steps(200) + 100
