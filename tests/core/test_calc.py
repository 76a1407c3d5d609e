"""The sums against published values, and against libraries that are not ours; each table names its source."""

from __future__ import annotations

import shlex
from decimal import Decimal
from math import log10, sqrt

import crccheck
import pytest
from hypothesis import given
from hypothesis import strategies as st

from wexicon.core.dialogue.expressions import Expression
from wexicon.core.engineering import electric, radio
from wexicon.core.engineering import radio as geodesy
from wexicon.core.engineering import radio as lora
from wexicon.core.engineering import serial_lines as uart
from wexicon.core.engineering.topic import CalcFault, parsed, shown
from wexicon.core.engineering.topics import TOPICS
from wexicon.core.standards import cellular as signal_quality
from wexicon.core.standards import cellular as timers
from wexicon.core.standards import checksums, pdu
from wexicon.core.standards import pdu as pdu_fields
from wexicon.core.tuning import Tuning

# -- checks -----------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("name", checksums.CRCS)
def test_each_cyclic_check_gives_its_catalogued_value(name: str) -> None:
    crc = checksums.CRCS[name]
    assert crc.of(b"123456789") == crc.check


# The same checks by their names in the library that judges them.
JUDGES = {
    "crc-8": "Crc8Smbus", "crc-8/i-432": "Crc8I4321", "crc-8/j1850": "Crc8SaeJ1850", "crc-8/autosar": "Crc8Autosar",
    "crc-8/dvb-s2": "Crc8DvbS2", "crc-8/rohc": "Crc8Rohc", "crc-8/wcdma": "Crc8Wcdma", "crc-16/arc": "Crc16Arc",
    "crc-16/modbus": "Crc16Modbus", "crc-16/usb": "Crc16Usb", "crc-16/umts": "Crc16Umts", "crc-16/xmodem": "Crc16Xmodem",
    "crc-16/ccitt-false": "Crc16Ibm3740", "crc-16/genibus": "Crc16Genibus", "crc-16/v-41-lsb": "Crc16V41Lsb",
    "crc-16/x-25": "Crc16X25", "crc-16/dnp": "Crc16Dnp", "crc-16/en-13757": "Crc16En13757", "crc-16/t10-dif": "Crc16T10Dif",
    "crc-32": "Crc32", "crc-32/bzip2": "Crc32Bzip2", "crc-32/mpeg-2": "Crc32Mpeg2", "crc-32/cksum": "Crc32Cksum",
    "crc-32/jamcrc": "Crc32Jamcrc", "crc-32/iscsi": "Crc32Iscsi",
}  # fmt: skip


@given(st.binary(max_size=40))
def test_the_checks_agree_with_another_library(data: bytes) -> None:
    for name, judge in JUDGES.items():
        assert checksums.CRCS[name].of(data) == getattr(crccheck.crc, judge).calc(data), name


@pytest.mark.parametrize(
    ("check", "text", "value"),
    [
        # The examples of Fletcher's checksum that its descriptions share.
        ("fletcher-16", b"abcde", 0xC8F0),
        ("fletcher-16", b"abcdef", 0x2057),
        ("fletcher-16", b"abcdefgh", 0x0627),
        ("fletcher-32", b"abcde", 0xF04FC729),
        ("fletcher-32", b"abcdef", 0x56502D2A),
        ("fletcher-32", b"abcdefgh", 0xEBE19591),
        # A sentence as it is printed everywhere (NMEA 0183), and a request of Modbus over a serial line.
        ("xor", b"GPGLL,5300.97914,N,00259.98174,E,125926,A", 0x28),
        ("crc-16/modbus", bytes.fromhex("01030000000a"), 0xCDC5),
        ("negative-sum", bytes.fromhex("0300300002337a"), 0x1E),  # a record of a program in hexadecimal
    ],
)
def test_checks_of_known_frames(check: str, text: bytes, value: int) -> None:
    assert checksums.CHECKS[check][1](text) == value


@given(st.sampled_from(sorted(checksums.CHECKS)), st.binary(min_size=3, max_size=30), st.integers(0, 3), st.booleans())
def test_a_check_is_found_wherever_it_starts(name: str, body: bytes, skipped: int, low_first: bool) -> None:
    width, function = checksums.CHECKS[name]
    frame = b"\x02\x10\x33"[:skipped] + body + function(body).to_bytes(width // 8, "little" if low_first else "big")
    found = [(one.check, one.skipped) for one in checksums.find(frame)]
    assert (name, skipped) in found


@given(st.sampled_from(["level 1.2 m", "Pegel 1,2 m ‐ über Null", "x" * 200, "水位" * 60]), st.booleans())
def test_every_octet_of_a_message_is_in_one_field(text: str, report: bool) -> None:
    for sent in pdu.submit("+441632960123", text, 7, report=report):
        for whole in (
            sent,
            pdu.deliver(sent, "+441632960999"),
            pdu.status_report(7, "+441632960123", "26030208000000"),
        ):
            found = pdu_fields.fields(whole)
            assert "".join(one.octets for one in found).replace(" ", "") == whole
    assert ("TP-DA", "+441632960123") in [(one.name, one.says) for one in pdu_fields.fields(sent)]
    assert found[-1] == ("TP-ST", "00", "delivered")
    # With a validity period of one octet (TP-VPF 10): AA is four days.
    found = pdu_fields.fields("0011000C914461236910320000AA0BECB2BDCC06C55C32501B")
    assert ("TP-VP", "AA", "validity period") in found and found[-1].says == "level 1.2 m"


# -- timers and signal ------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("bits", "form", "seconds"),
    # 3GPP TS 24.008: 2 s, 1 min, 6 min; 10 min, 1 h, 10 h, 2 s, 30 s, 1 min, 320 h.
    [
        ("00000001", "gprs-2", 2), ("00100010", "gprs-2", 120), ("01000001", "gprs-2", 360), ("11100000", "gprs-2", 0),
        ("00000001", "gprs-3", 600), ("00100100", "gprs-3", 14_400), ("01000010", "gprs-3", 72_000),
        ("01111111", "gprs-3", 62), ("10000001", "gprs-3", 30), ("10100101", "gprs-3", 300),
        ("11011111", "gprs-3", 31 * 320 * 3600), ("11100000", "gprs-3", 0),
    ],
)  # fmt: skip
def test_timers(bits: str, form: str, seconds: int) -> None:
    assert timers.decoded(bits, timers.UNITS[form]) == seconds and bits in timers.codings(seconds, timers.UNITS[form])


@given(st.sampled_from(sorted(timers.UNITS)), st.integers(1, 40_000_000))
def test_the_nearest_timers_are_on_both_sides_and_none_is_between(form: str, wish: int) -> None:
    units = timers.UNITS[form]
    below, above = timers.nearest(wish, units)
    known = sorted({timers.decoded(f"{bits:08b}", units) for bits in range(224) if bits >> 5 in units} - {0})
    assert below == max((one for one in known if one <= wish), default=None)
    assert above == min((one for one in known if one >= wish), default=None)
    assert all(timers.codings(one, units) for one in (below, above) if one)


@pytest.mark.parametrize(
    ("scale", "number", "value"),
    # The tables of +CSQ and +CESQ (3GPP TS 27.007), and of SS-SINR (TS 38.133): first, second and last lines.
    [
        ("csq", 0, -113), ("csq", 1, -111), ("csq", 30, -53), ("csq", 31, -51), ("rxlev", 1, -110), ("rxlev", 63, -48),
        ("rscp", 1, -120), ("rscp", 96, -25), ("ecno", 1, -24), ("ecno", 49, 0), ("rsrq", 1, -19.5), ("rsrq", 34, -3),
        ("rsrp", 1, -140), ("rsrp", 97, -44), ("sinr", 1, -23), ("sinr", 127, 40),
    ],
)  # fmt: skip
def test_signal_reports(scale: str, number: int, value: float) -> None:
    assert signal_quality.value_of(scale, number) == value and signal_quality.number_of(scale, value) == number
    # The least number is all below the first line.
    assert signal_quality.value_of("rsrp", 0) == -140 and signal_quality.number_of("rsrp", -150) == 0
    for wrong in (-1, signal_quality.SCALES[scale].unknown, 256):
        with pytest.raises(ValueError, match=scale if wrong != signal_quality.SCALES[scale].unknown else "not know"):
            signal_quality.value_of(scale, wrong)


# -- radio ------------------------------------------------------------------------------------------------------------------


def test_a_link_by_the_engineers_formulas() -> None:
    # ITU-R P.525: 32.4 + 20 log f (MHz) + 20 log d (km). ITU-R P.526: 550 sqrt(d1 d2 / (d f)), in km and MHz.
    assert radio.free_space_loss(1000, 2400e6) == pytest.approx(32.4 + 20 * log10(2400), abs=0.06)
    assert radio.fresnel_radius(10_000, 2400e6) == pytest.approx(550 * sqrt(25 / (10 * 2400)), rel=0.005)
    assert radio.fresnel_radius(10_000, 2400e6, 2500) == pytest.approx(550 * sqrt(2.5 * 7.5 / (10 * 2400)), rel=0.005)
    assert radio.fresnel_radius(10_000, 2400e6, 0) == 0
    for exponent in (2.0, 2.7, 4.0):
        loss = radio.log_distance_loss(1234.5, 868e6, exponent)
        assert radio.range_at(loss, 868e6, exponent) == pytest.approx(1234.5)
    # 1 mW in 50 ohms is 224 mV, as every table of dBm says.
    assert radio.voltage_of_dbm(0) == pytest.approx(0.2236, abs=1e-4)
    assert radio.link_margin(14, 120, -130, gain_db=4, other_losses_db=3) == 25


def test_duty_cycle_and_channels() -> None:
    assert lora.off_time(1.0, 1.0) == pytest.approx(99) and lora.packets_an_hour(1.0, 1.0) == 36
    assert lora.packets_an_hour(0.36, 0.1) == 10 and lora.off_time(2.0, 100) == 0
    assert lora.channel_frequency(26, 863.1e6, 200e3) == pytest.approx(868.3e6)
    assert lora.channel_of(868.35e6, 863.1e6, 200e3) == (26, pytest.approx(50e3))
    assert lora.packet_power(-7, -112) == -119 and lora.packet_power(5, -80) == -80 and lora.margin(9, -12.5) == 0
    for wrong in (0, -1, 101):
        with pytest.raises(ValueError, match="duty"):
            lora.off_time(1.0, wrong)


# -- UART -------------------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("clock", "rate", "oversampling", "fraction", "divider", "error"),
    # As data sheets of microcontrollers tabulate them (their register holds one less).
    [
        (16e6, 115_200, 16, 0, 9, -3.5), (16e6, 115_200, 8, 0, 17, 2.1), (16e6, 57_600, 16, 0, 17, 2.1),
        (8e6, 9600, 16, 0, 52, 0.2), (8e6, 38_400, 16, 0, 13, 0.2), (1e6, 4800, 16, 0, 13, 0.2),
        (14.7456e6, 115_200, 16, 0, 8, 0.0), (18.432e6, 230_400, 16, 0, 5, 0.0),
        # With a fraction of four bits: 8 MHz / (16 x 4 5/16).
        (8e6, 115_200, 16, 4, 4, 0.64),
    ],
)  # fmt: skip
def test_dividers(clock: float, rate: int, oversampling: int, fraction: int, divider: int, error: float) -> None:
    found = uart.divider(clock, rate, oversampling, fraction)
    assert found.whole == divider and found.error * 100 == pytest.approx(error, abs=0.06)


@given(st.floats(1e5, 1e9), st.integers(300, 4000), st.sampled_from([8, 16]), st.integers(0, 6))
def test_no_other_divider_is_nearer(clock: float, rate: int, oversampling: int, fraction: int) -> None:
    found = uart.divider(clock, rate, oversampling, fraction)
    steps = 1 << fraction
    for count in (found.whole * steps + found.fraction - 1, found.whole * steps + found.fraction + 1):
        if count:
            assert abs(clock * steps / (oversampling * count) / rate - 1) >= abs(found.error) * (1 - 1e-9)


def test_the_line() -> None:
    assert Tuning(9600).wire_time(960) == 1.0 and uart.report_rate(480, 1.0, Tuning(4800)) == 1.0
    # Half a bit at the tenth of ten bits, less a sixteenth.
    assert uart.tolerance(Tuning()) == pytest.approx(0.4375 / 9.5)
    assert uart.throughput(128, 132, 1, Tuning(9600)) == pytest.approx(128 / (133 / 960))
    with pytest.raises(ValueError, match="1843200 Hz"):
        uart.divider(1e6, 115_200)


# -- positions --------------------------------------------------------------------------------------------------------------


def _degrees(degrees: int, minutes: int, seconds: float) -> float:
    return degrees + minutes / 60 + seconds / 3600


def test_a_published_geodesic() -> None:
    # Flinders Peak to Buninyong (Geocentric Datum of Australia, technical manual): 54 972.271 m.
    one = (-_degrees(37, 57, 3.7203), _degrees(144, 25, 29.5244))
    two = (-_degrees(37, 39, 10.1561), _degrees(143, 55, 35.3839))
    distance, there, on = geodesy.distance_and_bearings(*one, *two)
    assert distance == pytest.approx(54_972.271, abs=0.002)
    assert there == pytest.approx(_degrees(306, 52, 5.37), abs=0.01 / 3600)
    assert on == pytest.approx(_degrees(127, 10, 25.07) + 180, abs=0.01 / 3600)
    assert geodesy.destination(*one, there, distance) == pytest.approx(two, abs=1e-9)


@pytest.mark.parametrize(
    ("degrees", "longitude", "text"),
    [(51.4821, False, "5128.9260 N"), (-2.9874, True, "00259.2440 W"), (-0.5, False, "0030.0000 S"),
     (9.9999999, False, "1000.0000 N"), (180, True, "18000.0000 E")],
)  # fmt: skip
def test_angles_of_sentences(degrees: float, longitude: bool, text: str) -> None:
    assert geodesy.nmea_angle(degrees, longitude=longitude) == text


# -- circuits ---------------------------------------------------------------------------------------------------------------


def test_dividers_of_standard_resistors() -> None:
    # IEC 60063: twelve and twenty-four values in a decade.
    assert (
        len(electric.standard_values("E12", 1e3, 9.99e3)) == 12 and len(electric.standard_values("E24", 1, 9.9)) == 24
    )
    found = electric.divider_pairs(5, 3.3)
    assert (found[0].upper, found[0].lower) == (47e3, 91e3) and abs(found[0].error) < 0.001
    # No pair of the series is nearer: all are tried.
    values = electric.standard_values("E12", 1e3, 100e3)
    best = min(abs(electric.divided(5, a, b) / 1.8 - 1) for a in values for b in values)
    assert abs(electric.divider_pairs(5, 1.8, "E12")[0].error) == pytest.approx(best)
    assert electric.divided(5, 1000, 1000, 1000) == pytest.approx(5 / 3)
    with pytest.raises(ValueError, match="below the input"):
        electric.divider_pairs(3.3, 5)


def test_levels_leds_and_supplies() -> None:
    three, five = electric.cmos_level(3.3), electric.cmos_level(5)
    assert electric.drives(three, three).drives and not electric.drives(three, five).drives
    assert electric.drives(five, three).damages and not electric.drives(three, five).damages
    ohms, watts = electric.led_resistor(5, 2, 0.010)
    assert (ohms, watts) == (pytest.approx(300), pytest.approx(0.03)) and electric.next_standard(ohms) == 330
    # A burst of 2 A for 577 us from a supply of 0.5 A: 1.5 A x 577 us / 0.4 V.
    assert electric.hold_up_capacitor(2, 577e-6, 0.4, 0.5) == pytest.approx(2.16375e-3)
    assert electric.hold_up_capacitor(0.1, 1, 0.4, 0.5) == 0


def test_batteries() -> None:
    assert electric.battery_life(1.0, 0.001) == pytest.approx(1000)
    # Nothing but self-discharge: 10 % a year is ten years.
    assert electric.battery_life(1.0, 0.0, 10) == pytest.approx(10 * electric.HOURS_A_YEAR)
    states = [electric.PowerState("send", 0.1, 1.0), electric.PowerState("listen", 0.01, 9.0)]
    assert electric.mean_current(states, 1e-6, 100.0) == pytest.approx((0.1 + 0.09 + 90e-6) / 100)
    assert sum(share for _, share in electric.charge_by_state(states, 1e-6, 100.0)) == pytest.approx(1)
    with pytest.raises(ValueError, match="the states take 10 s"):
        electric.mean_current(states, 0, 9.0)


# -- what is typed ----------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize(
    ("text", "unit", "value"),
    [("125kHz", "Hz", 125e3), ("4k7", "Ω", 4700), ("4.7k", "Ω", 4700), ("100R", "Ω", 100), ("20mA", "A", 0.02),
     ("1.5min", "s", 90), ("577us", "s", 577e-6), ("2.6Ah", "Ah", 2.6), ("-112", "dBm", -112), ("1e3", "", 1000),
     ("2km", "m", 2000), ("2", "m", 2), ("868.3 MHz", "Hz", 868.3e6), ("100uF", "F", 1e-4), ("3 mW", "W", 3e-3)],
)  # fmt: skip
def test_quantities(text: str, unit: str, value: float) -> None:
    assert parsed(text, unit) == pytest.approx(value)


@pytest.mark.parametrize(
    ("text", "unit"), [("12V", "A"), ("x", "Hz"), ("", "s"), ("1e999", ""), ("5 bananas", "s"), ("1m", "")]
)
def test_what_is_no_quantity_is_refused(text: str, unit: str) -> None:
    with pytest.raises(ValueError, match=r"write|number|too large"):
        parsed(text, unit)


@given(st.floats(1e-9, 1e9), st.sampled_from(["Hz", "V", "A", "Ω", "F", "W", "Ah", "m"]))
def test_what_is_shown_can_be_typed_again(value: float, unit: str) -> None:
    if (unit == "Ah" and value < 1e-4) or (unit == "m" and value < 1e-3) or (unit == "F" and value < 1e-12):
        return
    assert parsed(shown(value, unit), unit) == pytest.approx(value, rel=6e-4)


@given(st.text(max_size=30), st.sampled_from(sorted(TOPICS)), st.data())
def test_anything_typed_gives_an_answer_or_a_clear_fault(text: str, name: str, data: st.DataObject) -> None:
    topic = TOPICS[name]
    given_ = dict(one.split("=", 1) for one in shlex.split(topic.examples[0]))
    given_ = {key.replace("-", "_"): value for key, value in given_.items()}
    given_[data.draw(st.sampled_from(sorted(topic.args)))] = text
    try:
        assert topic.work(given_)
    except CalcFault as fault:
        assert str(fault)


def test_lists_and_ranges_are_every_combination() -> None:
    found = TOPICS["airtime"].work({"spreading": "7..9", "payload": "10,20", "bandwidth": "125k"})
    assert [tuple(one.given.values()) for one in found] == [
        (sf, size) for sf in ("7", "8", "9") for size in ("10", "20")
    ]
    times = [one.numbers["interval"] for one in TOPICS["battery"].work(
        {"capacity": "1Ah", "interval": "10s..1000s/3", "states": "send 1mA 1s"})]  # fmt: skip
    assert times == pytest.approx([10, 100, 1000])
    for wrong, why in (("1..1", "not a range"), ("7..12/x", "number of values"), ("0..255/99999", "not a range")):
        with pytest.raises(CalcFault, match=why):
            TOPICS["airtime"].work({"payload": wrong})


def test_expressions_have_the_same_sums() -> None:
    def value(text: str) -> object:
        return Expression(text).value({})

    assert value("time_on_air(10, 7, 125000)") == Decimal("0.041216")
    assert value("signal_value('csq', 18)") == -77 and value("signal_words('csq', 18)") == "good"
    assert value("timer_seconds('00100100', 'gprs-3')") == 14_400 and value("timer_bits(14400, 'gprs-3')") == "00011000"
    assert value("check('crc-16/modbus', '123456789')") == "4B37" and value("milliwatts(20)") == 100
    assert value("round(distance(51.4821, -2.9874, 51.49, -2.95), 3)") == Decimal("2742.525")
    assert value("wire_time(960, 9600)") == 1 and value("dbm(100) == 20") is True
