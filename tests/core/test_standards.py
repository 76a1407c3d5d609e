"""What the open standards say, against examples that they publish; each with its clause."""

from __future__ import annotations

import contextlib
from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from wexicon.core.standards import pdu
from wexicon.core.standards.charsets import (
    ALPHABET,
    EXTENSION,
    CharsetFault,
    gsm7_codes,
    gsm7_text,
    pack,
    ucs2,
    ucs2_text,
    unpack,
)
from wexicon.core.standards.gnss import SentenceFault, degrees, parse
from wexicon.core.values import TimerKind, ValueFault

GSM_TEXT = st.text(st.sampled_from([char for char in ALPHABET if char != "\x1b"] + list(EXTENSION)), max_size=60)


@pytest.mark.parametrize(
    ("char", "codes"),
    [
        ("@", "00"),
        ("Δ", "10"),
        ("Æ", "1c"),
        ("¤", "24"),
        ("¡", "40"),
        ("Ä", "5b"),
        ("¿", "60"),
        ("à", "7f"),
        ("€", "1b65"),
        ("[", "1b3c"),
    ],
)
def test_the_gsm_alphabet(char: str, codes: str) -> None:
    """3GPP TS 23.038, 6.2.1 and 6.2.1.1: places in the default alphabet and its extension."""
    assert gsm7_codes(char).hex() == codes
    assert gsm7_text(bytes.fromhex(codes)) == char


def test_packing_of_septets() -> None:
    """3GPP TS 23.038, 6.1.2.1.1: bit 7 of the first octet is bit 1 of the second character."""
    assert pack(gsm7_codes("hellohello")).hex() == "e8329bfd4697d9ec37"
    assert pack(b"\x7f").hex() == "7f" and pack(b"\x01\x01").hex() == "8100"


@given(GSM_TEXT, st.integers(0, 6))
def test_gsm_text_comes_back(text: str, fill: int) -> None:
    codes = gsm7_codes(text)
    assert gsm7_text(unpack(pack(codes, fill), len(codes), fill)) == text


@given(st.text(st.characters(max_codepoint=0xFFFF, exclude_categories=["Cs"])))
def test_ucs2_comes_back(text: str) -> None:
    """3GPP TS 23.038, 6.2.3."""
    assert ucs2_text(ucs2(text)) == text


def test_what_an_alphabet_does_not_have_is_refused() -> None:
    for encode, text in ((gsm7_codes, "水"), (ucs2, "😀")):
        with pytest.raises(CharsetFault):
            encode(text)
    with pytest.raises(CharsetFault):
        ucs2_text(b"\x00")


def test_a_submitted_unit() -> None:
    """3GPP TS 23.040, 9.2.2.2, as 27.005 gives it to +CMGS: no service centre, SUBMIT, number of 12 digits, 7-bit text."""
    (unit,) = pdu.submit("+441632960013", "hellohello")
    assert unit == "0001000C9144612369003100000AE8329BFD4697D9EC37"
    assert pdu.length(unit) == 22


def test_a_delivered_unit() -> None:
    """3GPP TS 23.040, 9.2.2.1: a DELIVER with service centre, 7-bit text and time stamp (9.2.3.11), an example often quoted."""
    message = pdu.read("07911326040000F0040B911346610089F60000208062917314080CC8F71D14969741F977FD07")
    assert (message.number, message.text) == ("+31641600986", "How are you?")
    assert message.stamp == "2002-08-26 19:37:41"


def test_a_long_text_becomes_several_that_belong_together() -> None:
    """3GPP TS 23.040, 9.2.3.24.1: 153 septets or 67 UCS-2 characters in each part; no character is cut in two."""
    text = "€" * 100
    units = pdu.submit("07700900123", text, 7)
    parts = [pdu.read(unit) for unit in units]
    assert [(p.reference, p.part, p.parts) for p in parts] == [(7, 1, 2), (7, 2, 2)]
    assert "".join(p.text for p in parts) == text and all(pdu.length(unit) <= 165 for unit in units)
    wide = [pdu.read(unit) for unit in pdu.submit("123", "水" * 71)]
    assert [len(p.text) for p in wide] == [67, 4]
    assert len(pdu.submit("123", "a" * 160)) == 1 and len(pdu.submit("123", "a" * 161)) == 2
    assert len(pdu.submit("123", "水" * 70)) == 1


@given(
    st.from_regex(r"\+?[0-9]{1,15}", fullmatch=True),
    GSM_TEXT | st.text(st.characters(max_codepoint=0xFFFF, exclude_categories=["Cs"]), max_size=200),
)
def test_units_come_back_and_are_delivered(number: str, text: str) -> None:
    units = pdu.submit(number, text)
    assert "".join(pdu.read(unit).text for unit in units) == text
    assert all(pdu.read(unit).number == number for unit in units)
    factory = [pdu.read(pdu.deliver(unit, "+441632960070")) for unit in units]
    assert "".join(p.text for p in factory) == text and factory[0].stamp == "2026-03-02 08:00:00"


@given(st.text("0123456789ABCDEFx", max_size=60))
def test_any_digits_are_a_unit_or_a_fault(text: str) -> None:
    try:
        pdu.read(text)
    except pdu.PduFault as fault:
        assert str(fault)


@pytest.mark.parametrize(
    ("form", "bits", "seconds"),
    [
        ("gprs-3", "01000111", 70 * 3600),  # 3GPP TS 27.007, 7.38: “01000111” equals 70 hours
        ("gprs-2", "00100100", 4 * 60),  # 3GPP TS 27.007, 7.38: “00100100” equals 4 minutes
        ("gprs-2", "01000011", 18 * 60),  # 3GPP TS 27.007, 7.38: “01000011” equals 3 decihours or 18 minutes
        ("gprs-3", "00000110", 3600),  # 3GPP TS 24.008, 10.5.7.4a: 000 is multiples of ten minutes
        ("gprs-3", "11000001", 320 * 3600),  # 3GPP TS 24.008, 10.5.7.4a: 110 is multiples of 320 hours
        ("gprs-3", "11100000", 0),  # 111: the timer is deactivated
        ("gprs-2", "11100000", 0),
    ],
)
def test_timers(form: str, bits: str, seconds: int) -> None:
    assert TimerKind(form=form).decode(bits) == seconds


@given(st.sampled_from(["gprs-2", "gprs-3"]), st.integers(0, 40_000_000))
def test_a_timer_is_coded_exactly_or_refused_with_the_nearest(form: str, seconds: int) -> None:
    kind = TimerKind(form=form)
    try:
        value = kind.check(seconds)
    except ValueFault as fault:
        assert "the nearest is" in fault.why
        return
    assert kind.decode(kind.encode(value)) == seconds


@pytest.mark.parametrize(
    ("line", "talker", "kind", "named"),
    [
        # NMEA 0183, 6.3: the forms of the sentences; values of examples that are quoted everywhere.
        ("$GPGGA,123519,4807.038,N,01131.000,E,1,08,0.9,545.4,M,46.9,M,,*47", "GP", "GGA", {"satellites": "08"}),
        ("$GPRMC,123519,A,4807.038,N,01131.000,E,022.4,084.4,230394,003.1,W*6A", "GP", "RMC", {"date": "230394"}),
        ("$GPGLL,4916.45,N,12311.12,W,225444,A,*1D", "GP", "GLL", {"time": "225444"}),
        ("$GPVTG,054.7,T,034.4,M,005.5,N,010.2,K*48", "GP", "VTG", {"kmh": "010.2"}),
        ("$GPZDA,201530.00,04,07,2002,00,00*60", "GP", "ZDA", {"year": "2002"}),
        ("$GPGSA,A,3,04,05,,09,12,,,24,,,,,2.5,1.3,2.1*39", "GP", "GSA", {"fix": "3", "pdop": "2.5"}),
        ("$PPLM,ACK,KEEP*53", "P", "PLM", {}),
    ],
)  # fmt: skip
def test_sentences(line: str, talker: str, kind: str, named: dict[str, str]) -> None:
    found = parse(line)
    assert (found.talker, found.kind) == (talker, kind)
    assert named.items() <= found.named().items()


def test_sentences_that_are_none() -> None:
    for line in ("", "$GPGGA", "GPGGA*00", "$GPGLL,4916.45,N,12311.12,W,225444,A,*1E"):
        with pytest.raises(SentenceFault):
            parse(line)


def test_angles() -> None:
    """NMEA 0183, 6.2.2: degrees and minutes, with decimals of minutes."""
    assert degrees("4807.038", "N") == Decimal("48.1173000")
    assert degrees("12311.12", "W") == Decimal("-123.1853333")
    for angle, side in (("9100.0", "N"), ("18100.0", "E"), ("x", "N"), ("1.0", "X")):
        with pytest.raises(SentenceFault):
            degrees(angle, side)


@given(st.data())
def test_no_bytes_are_more_than_a_message_or_a_fault(data: st.DataObject) -> None:
    good = [*pdu.submit("+441632960013", "x" * 300, 1), pdu.status_report(1, "+44163", "26030208000000")]
    good.append(pdu.deliver(pdu.submit("+441632960013", "hello", 1)[0], "+4412"))
    made = bytearray(bytes.fromhex(data.draw(st.sampled_from(good))))
    for at, byte in data.draw(st.lists(st.tuples(st.integers(0, 30), st.integers(0, 255)), max_size=4)):
        made[at % len(made)] = byte
    cut = bytes(made[: data.draw(st.integers(0, len(made)))]).hex()
    for work in (pdu.read, pdu.wants_report, lambda text: pdu.join([text, text])):
        with contextlib.suppress(pdu.PduFault):
            work(cut)


@given(
    st.sampled_from(["GGA", "GNS", "RMC", "GLL", "GSA", "GSV", "ZDA"]),
    st.lists(st.text("0129.,-NSEWAVé\udcff٣", max_size=9), max_size=20),
)
def test_no_fields_are_more_than_values_in_their_range_or_none(kind: str, fields: list[str]) -> None:
    from wexicon.core.standards.gnss import Sentence, fix_of, in_words, used_of, views_of

    one = Sentence("GP", kind, tuple(fields))
    in_words(one), used_of(one)
    if (fix := fix_of(one)) and fix.latitude is not None and fix.longitude is not None:
        assert abs(fix.latitude) <= 90 and abs(fix.longitude) <= 180
    assert all(view.elevation is None or view.elevation <= 90 for view in views_of(one))
