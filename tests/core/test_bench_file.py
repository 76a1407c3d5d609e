"""A `wexicon.toml` is read, or every fault of it is told; whatever is in it."""

from __future__ import annotations

from contextlib import suppress

import pytest
from hypothesis import given
from hypothesis import strategies as st

from wexicon.cli.config import STARTER
from wexicon.core.faults import FileFault
from wexicon.core.formats.fixture import read_settings

LINES = [line.removeprefix("# ") for line in STARTER.splitlines()[1:] if line.strip()]


@given(st.binary(max_size=200))
def test_any_bytes_are_a_file_or_a_fault(data: bytes) -> None:
    with suppress(FileFault):
        read_settings(data, "wexicon.toml")


@given(st.lists(st.sampled_from(LINES), max_size=12), st.integers(0, 200), st.text(max_size=3))
def test_any_lines_with_something_put_in_are_a_file_or_a_fault(lines: list[str], at: int, put: str) -> None:
    text = "\n".join(lines)
    with suppress(FileFault):
        read_settings((text[:at] + put + text[at:]).encode("utf-8", "surrogatepass"), "wexicon.toml")


def test_every_fault_is_told_at_once_with_its_line() -> None:
    text = 'format = 1\nregister = "postgresql://quay:tide@h/u"\noperator = "hand"\nprove = "powr"\npatience = "long"\n'
    with pytest.raises(FileFault) as caught:
        read_settings(text.encode(), "wexicon.toml")
    told = str(caught.value)
    assert [complaint.line for complaint in caught.value.complaints] == [2, 3, 4, 5]
    assert "did you mean power" in told and "tide" not in told
