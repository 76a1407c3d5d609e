"""Values go to the module's words and back unchanged; what is not allowed is refused by name."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from wexicon.core.formats.toml import Source, read_kind
from wexicon.core.tuning import Tuning
from wexicon.core.values import Kind, ValueFault
from wexicon.core.values.numbers import Int, NumberKind
from wexicon.core.values.texts import Address

RATE_TUPLE = {
    "kind": "tuple",
    "fields": [
        {"name": "rate", "value": {"kind": "rate", "codes": {"9600": 3, "115200": "A"}}},
        {"name": "stop", "value": {"kind": "choice", "codes": {"1": 1, "2": 2}}, "default": 1},
        {"name": "parity", "value": {"kind": "choice", "codes": {"none": "N", "even": "E"}}, "default": "none"},
    ],
}


def kind(**keys: Any) -> Kind:
    made = read_kind(Source(b"", "x"), keys, ())
    assert made
    return made


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
def test_anything_at_all_is_a_value_or_a_fault(one: Kind, value: Any) -> None:
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
def test_what_is_not_allowed_is_refused_by_name(one: Kind, value: Any, why: str) -> None:
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
    assert one.apply_to(Tuning(), value) == Tuning(115200, 8, "E", 2)
    assert one.show(value) == "115200 baud, stop 2, parity even"


@pytest.mark.parametrize(
    ("keys", "key"),
    [
        ({"kind": "int", "min": 5, "max": 1}, "min"),
        ({"kind": "int", "step": 0}, "step"),
        ({"kind": "int", "base": 7}, "base"),
        ({"kind": "decimal", "min": float("nan")}, "min"),
        ({"kind": "decimal", "scale": 0}, "scale"),
        ({"kind": "decimal", "places": -3}, "places"),
        ({"kind": "decimal", "holes": [[3, 2]]}, "holes"),
        ({"kind": "text", "characters": "z-a"}, "characters"),
        ({"kind": "text", "charset": "klingon"}, "charset"),
        ({"kind": "text", "min_bytes": 9, "max_bytes": 3}, "min_bytes"),
        ({"kind": "digits", "min": 9, "max": 3}, "min"),
        ({"kind": "hex", "min_bytes": 0}, "min_bytes"),
        ({"kind": "address", "order": "sideways"}, "order"),
        ({"kind": "address", "written": "none"}, "written"),
        ({"kind": "timer", "form": "gprs-9"}, "form"),
        ({"kind": "choice", "codes": {}}, "codes"),
        ({"kind": "choice", "codes": {"a": 1, "b": 1}}, "codes"),
        ({"kind": "choice", "codes": {"a": "0", "b": "00"}, "codes_are": "number"}, "codes"),
        ({"kind": "choice", "codes": {"a": 1}, "codes_are": "shape"}, "codes_are"),
        ({"kind": "flag", "on": "1", "off": "1"}, "on"),
        ({"kind": "rate", "codes": {"fast": 1}}, "codes"),
        ({"kind": "rate", "rates": [0]}, "rates"),
        ({"kind": "frame", "codes": {"9X9": 1}}, "codes"),
        ({"kind": "tuple", "fields": []}, "fields"),
        ({"kind": "tuple", "fields": [{"name": "a", "value": {"kind": "int"}, "default": "x"}]}, "fields"),
    ],
)
def test_a_kind_that_makes_no_sense_is_a_fault_of_the_lexicon(keys: dict[str, Any], key: str) -> None:
    source = Source(b"", "x")
    assert read_kind(source, keys, ("value",)) is None
    assert any(complaint.place.endswith(key) for complaint in source.complaints)


def test_what_differs_decodes_differently() -> None:
    """Codes match exactly, so that no two answers of a module are taken for one value."""
    states = kind(kind="choice", codes={"none": "", "off": "0", "zeros": "0000", "small": "n", "large": "N"})
    for code in ("", "0", "0000", "n", "N"):
        assert states.encode(states.decode(code)) == code
    for text in ("00", " 0", "0\x1d", "none"):
        with pytest.raises(ValueFault):
            states.decode(text)
    assert kind(kind="choice", codes={"a": "0A"}, codes_are="word").decode("0a") == "a"
    assert kind(kind="choice", codes={"a": 7}, codes_are="number").decode("07") == "a"
    with pytest.raises(ValueFault):
        kind(kind="choice", codes={"a": 0}, codes_are="number").decode("")
    with pytest.raises(ValueFault):
        kind(kind="flag", on="1", off="0").decode(" 1")


@pytest.mark.parametrize("text", ["02A15C.0013F7", "02.A15C:0013F7", "02.A15C.0013F7.", "02.A15C.0013F70", "02.A15C."])
def test_an_address_that_does_not_have_its_declared_form_is_not_understood(text: str) -> None:
    kind = Address(written="XXXXXX-XXXXXX", heard="XX.XXXX.XXXXXX")
    assert kind.decode("02.A15C.0013F7") == kind.decode("2.A15C.13F7") == "02:A1:5C:00:13:F7"
    with pytest.raises(ValueFault, match="is not an address of the form"):
        kind.decode(text)


def test_a_number_that_is_read_beyond_its_range_is_told_so() -> None:
    for kind, inside, beyond in (
        (Int(min=0, max=15), "15", "16"),
        (Int(min=0, max=255, base=16), "FF", "1FF"),
        (NumberKind(max=2.5), "2.5", "2.6"),
    ):
        assert kind.decode(inside) is not None
        with pytest.raises(ValueFault, match="is out of range"):
            kind.decode(beyond)


# Units of the two timers as 3GPP TS 24.008 has them (10.5.7.4, 10.5.7.4a), from memory; worked out from words, not from codes.
SECONDS, MINUTES, HOURS = 1, 60, 3600
TIMER_WORDS = {
    "gprs-2": {0b000: 2 * SECONDS, 0b001: 1 * MINUTES, 0b010: HOURS // 10},
    "gprs-3": {
        0b000: 10 * MINUTES,
        0b001: 1 * HOURS,
        0b010: 10 * HOURS,
        0b011: 2 * SECONDS,
        0b100: 30 * SECONDS,
        0b101: 1 * MINUTES,
        0b110: 320 * HOURS,
    },
}


@pytest.mark.parametrize("form", TIMER_WORDS)
def test_each_of_the_256_codes_of_a_timer_is_its_count_of_its_unit(form: str) -> None:
    from wexicon.rigs.standins.cordal import ACTIVE_UNITS, PERIODIC_UNITS

    one, units = kind(kind="timer", form=form), TIMER_WORDS[form]
    for code in range(256):
        unit, count = divmod(code, 32)
        # Seven is off; a unit that is not defined counts as one minute.
        wanted = 0 if unit == 7 else count * units.get(unit, MINUTES)
        assert one.decode(f"{code:08b}") == wanted
        if wanted:
            assert one.decode(one.encode(one.check(wanted))) == wanted
    standin = ACTIVE_UNITS if form == "gprs-2" else PERIODIC_UNITS
    assert {int(bits, 2): seconds for bits, seconds in standin.items()} == units
