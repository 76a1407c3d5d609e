"""Values go to the module's words and back unchanged; what is not allowed is refused by name."""

from __future__ import annotations

from typing import Any

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from wexicon.core.tuning import Tuning
from wexicon.core.values import AnyKind, ValueFault, retuned

RATE_TUPLE = {
    "kind": "tuple",
    "fields": [
        {"name": "rate", "value": {"kind": "rate", "codes": {"9600": 3, "115200": "A"}}},
        {"name": "stop", "value": {"kind": "choice", "codes": {"1": 1, "2": 2}}, "default": 1},
        {"name": "parity", "value": {"kind": "choice", "codes": {"none": "N", "even": "E"}}, "default": "none"},
    ],
}


def kind(**keys: Any) -> AnyKind:
    return msgspec.convert(keys, AnyKind)  # type: ignore[arg-type]


HEX = st.text("0123456789abcdef", min_size=12, max_size=12)
GSM = st.text(st.sampled_from("@abcXYZ é€[]{}£àΔ"), max_size=17)
ROUND_TRIPS = [
    (kind(kind="text", max_bytes=40, charset="gsm7"), GSM),
    (kind(kind="text", max_bytes=40, charset="ucs2"), GSM),
    (kind(kind="timer", form="gprs-2"), st.integers(1, 31).map(lambda count: f"{count * 360}s")),
    (
        kind(kind="decimal", min=862, max=870, step=0.1, offset=862, scale=10, places=0),
        st.integers(8620, 8700).map(lambda t: t / 10),
    ),
    (kind(kind="text", max_bytes=40), st.text(st.characters(exclude_categories=["Cc", "Cs"]), max_size=10)),
    (kind(kind="digits", min=4, max=8), st.text("0123456789", min_size=4, max_size=8)),
    (kind(kind="int", min=-9, max=65535, holes=[[10, 19]]), st.integers(20, 65535) | st.integers(-9, 9)),
    (kind(kind="int", base=16, width=4, min=0), st.integers(0, 65535)),
    (
        kind(kind="decimal", min=863, max=870, step=0.1, unit="MHz", scale=1_000_000, places=0),
        st.integers(8630, 8700).map(lambda tenths: f"{tenths // 10}.{tenths % 10}"),
    ),
    (kind(kind="choice", codes={"follower": "F", "leader": 0}), st.sampled_from(["follower", "leader"])),
    (kind(kind="flag", on="ON", off="OFF"), st.booleans()),
    (kind(kind="rate", codes={"9600": 3, "115200": "A"}), st.sampled_from([9600, 115200])),
    (kind(kind="frame", codes={"8N1": 0, "8E1": 2}), st.sampled_from(["8N1", "8E1"])),
    (kind(kind="address", written="XX.XXXX.XXXXXX"), HEX),
    (kind(kind="address", written="xxxxxx-xxxxxx", order="reversed"), HEX),
    (kind(kind="hex", min_bytes=2, max_bytes=6), HEX),
    (
        kind(**RATE_TUPLE),
        st.fixed_dictionaries({"rate": st.sampled_from([9600, 115200]), "stop": st.sampled_from(["1", "2"])}),
    ),
]


@given(st.data())
def test_encode_then_decode_gives_the_same_value(data: st.DataObject) -> None:
    one, values = data.draw(st.sampled_from(ROUND_TRIPS))
    value = one.check(data.draw(values))
    assert one.decode(one.encode(value)) == value
    assert one.check(value) == value
    assert "\n" not in one.show(value)


@given(st.sampled_from([one for one, _ in ROUND_TRIPS]), st.text(max_size=20) | st.integers() | st.floats() | st.none())
def test_anything_at_all_is_a_value_or_a_fault(one: AnyKind, value: Any) -> None:
    try:
        one.check(value)
    except ValueFault as fault:
        assert fault.allowed
    try:
        one.decode(str(value))
    except ValueFault as fault:
        assert fault.allowed


@pytest.mark.parametrize(
    ("one", "value", "why"),
    [
        (kind(kind="text", max_bytes=4), "Käse", "5 bytes long"),
        (kind(kind="text"), "a\r\nAT+FRESH", "control character"),
        (kind(kind="text", characters="A-Z0-9 _-"), "Quay", "'u'"),
        (kind(kind="digits", min=4, max=8), 4821, "digits in quotes"),
        (kind(kind="int", min=0, max=9, step=3), 4, "between two steps"),
        (kind(kind="int", min=0, max=9, holes=[[3, 5]]), 4, "left out"),
        (kind(kind="decimal", min=1, max=2, scale=10, places=0), 1.55, "finer"),
        (kind(kind="choice", codes={"leader": 1}), "leder", "did you mean leader?"),
        (kind(kind="rate", codes={"9600": 3}), 9601, "does not have"),
        (kind(kind="address"), "02:A1:5C", "6 hexadecimal digits"),
        (kind(**RATE_TUPLE), {"rate": 9600, "stp": 1}, "has no field stp"),
    ],
)
def test_what_is_not_allowed_is_refused_by_name(one: AnyKind, value: Any, why: str) -> None:
    with pytest.raises(ValueFault) as fault:
        one.check(value)
    assert why in str(fault.value)


def test_addresses_read_otherwise_than_written() -> None:
    one = kind(kind="address", written="XXXXXX-XXXXXX", heard="XX.XXXX.XXXXXX")
    assert one.encode(one.check("02a1.5c00.13f7")) == "02A15C-0013F7"
    assert one.decode("2.A15C.13F7") == "02:A1:5C:00:13:F7"  # leading zeros of each group dropped


def test_a_tuple_moves_rate_and_frame_together() -> None:
    one = kind(**RATE_TUPLE)
    value = one.check({"rate": 115200, "stop": 2, "parity": "even"})
    assert retuned(Tuning(), one, value) == Tuning(115200, 8, "E", 2)
    assert one.show(value) == "115200 baud, stop 2, parity even"
