"""Tables fit the terminal by one rule: no word is broken, nothing is lost, no line is too long but for one word alone."""

from __future__ import annotations

import os
import shutil

from hypothesis import given
from hypothesis import strategies as st

from wexicon.cli import show as table
from wexicon.cli.show import lines_of, width

CELLS = st.lists(st.text("abcdefghij字", max_size=9), max_size=5).map(" ".join)
TABLES = st.integers(1, 5).flatmap(
    lambda size: st.tuples(
        st.lists(st.text("ABC", min_size=1, max_size=8), min_size=size, max_size=size),
        st.lists(st.lists(CELLS, min_size=size, max_size=size), min_size=1, max_size=5),
    )
)


def lines(columns: list[str], rows: list[list[str]], room: int) -> list[str]:
    usual = shutil.get_terminal_size
    table.shutil.get_terminal_size = lambda *_: os.terminal_size((room, 24))  # type: ignore[attr-defined]
    try:
        return lines_of(columns, rows, terminal=True)
    finally:
        table.shutil.get_terminal_size = usual  # type: ignore[attr-defined]


@given(TABLES, st.integers(10, 120))
def test_at_any_width_no_word_is_broken_or_lost(made: tuple[list[str], list[list[str]]], room: int) -> None:
    columns, rows = made
    told = lines(columns, rows, room)
    words = " ".join(told).split()
    for row in rows:
        for cell in row:
            for word in cell.split():
                assert word in words
    longest = max((width(word) for row in rows for cell in row for word in cell.split()), default=0)
    for line in told:
        assert width(line) <= max(room, max(map(width, columns)) + len(table.GAP) + longest), line


def test_what_gives_way_first() -> None:
    columns = ["unit", "note", "what was done to it"]
    rows = [["mast M1", "", "provisioned and read back"], ["mast M2", "", "verified"]]
    assert lines(columns, rows, 80)[0].split() == ["unit", "note", "what", "was", "done", "to", "it"]
    assert lines(columns, rows, 40) == [
        "unit      what was done to it",
        "───────────────────────────────────",
        "mast M1   provisioned and read back",
        "mast M2   verified",
    ]
    assert lines(columns, rows, 26)[:4] == [
        "unit      what was done to",
        "          it",
        "──────────────────────────",
        "mast M1   provisioned and",
    ]
    assert lines(columns, rows, 16) == [
        "unit                  mast",
        "                      M1",
        "what was done to it   provisioned",
        "                      and",
        "                      read",
        "                      back",
        "",
        "unit                  mast",
        "                      M2",
        "what was done to it   verified",
    ]


def test_in_a_pipe_nothing_gives_way() -> None:
    told = lines_of(["a", "b"], [["x" * 300, ""]], terminal=False)
    assert told[0].startswith("a") and "b" in told[0] and told[2] == "x" * 300
