"""What is heard at the wrong rate, against what a UART's shift register would take in."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from wexicon.core.standards.waveform import heard_at, true_rate
from wexicon.core.tuning import USUAL_RATES, Tuning


@given(st.binary(max_size=40), st.sampled_from([9600, 57600, 115200]), st.sampled_from([0.97, 1.0, 1.03]))
def test_near_enough_is_heard_right(data: bytes, rate: int, drift: float) -> None:
    assert heard_at(data, Tuning(rate), Tuning(int(rate * drift))) == data


def test_known_garbage() -> None:
    # Seven data bits and parity at the same rate: the eighth bit is taken for the parity.
    assert heard_at(b"\x55", Tuning(9600), Tuning(9600, 7, "E", 1)) == b"\x55"
    # Theirs is half of our rate: their start bit is our start bit and one low data bit.
    assert heard_at(b"\xff", Tuning(9600), Tuning(19200)) == b"\xfe"
    # Theirs is twice our rate: nine of their low bits last four and a half of ours, start bit included.
    assert heard_at(b"\x00", Tuning(9600), Tuning(4800)) == b"\xf8"
    # Twelve of our bits in one of theirs: each low bit is a whole character of zeros, and a break.
    assert set(heard_at(b"OK", Tuning(9600), Tuning(115200))) == {0}


@given(st.binary(min_size=1, max_size=30), st.sampled_from(USUAL_RATES), st.sampled_from(USUAL_RATES))
def test_any_bytes_at_any_rates(data: bytes, sent: int, ours: int) -> None:
    heard = heard_at(data, Tuning(sent), Tuning(ours))
    assert len(heard) <= len(data) * max(1, ours // sent + 1)


@pytest.mark.parametrize("ours", [4800, 19200, 38400, 57600])
@pytest.mark.parametrize("sent", [9600, 115200])
def test_garbage_names_its_rate(sent: int, ours: int) -> None:
    text = b"K5 NO MATE\r\n"
    garbage = heard_at(text, Tuning(sent), Tuning(ours))
    assert true_rate(garbage, Tuning(ours), [text]) == sent
