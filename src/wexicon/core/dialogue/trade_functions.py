"""The functions of the trade that an expression may call: the formulas of `core/engineering`, the checks and words of
`core/standards`.

The rule: a formula is the one that `wexicon calc` uses; the standard that it comes from is named with it.
"""

from __future__ import annotations

import hashlib
import hmac
import re
from collections.abc import Callable
from decimal import Decimal
from functools import wraps
from importlib import import_module
from math import isfinite
from typing import TYPE_CHECKING, Any
from zlib import crc32

from wexicon.core.text import meant, to_bytes
from wexicon.core.tuning import Tuning


class _Later:
    """A module that is imported when it is first used: few dialogues use these."""

    def __init__(self, name: str) -> None:
        self._module = f"wexicon.core.{name}"

    def __getattr__(self, name: str) -> Any:
        return getattr(import_module(self._module), name)


if TYPE_CHECKING:
    from wexicon.core.engineering import radio
    from wexicon.core.standards import cellular, charsets, checksums, gnss, pdu
else:
    radio = _Later("engineering.radio")
    cellular, charsets, checksums = (
        _Later("standards.cellular"),
        _Later("standards.charsets"),
        _Later("standards.checksums"),
    )
    gnss, pdu = _Later("standards.gnss"), _Later("standards.pdu")


# Decimals that a result has: more than any of these formulas is good for.
PLACES = 9


def _number(value: object) -> float:
    """An argument as a number. Raises ValueError."""
    if isinstance(value, bool) or not isinstance(value, (int, Decimal)):
        raise ValueError(f"{str(value)[:40]!r} is not a number")
    try:
        return float(value)
    except OverflowError:
        raise ValueError("the number is too large") from None


def _exact(value: float) -> Decimal:
    if not isfinite(value):
        raise ValueError("the result is no number")
    return Decimal(repr(round(value, PLACES)))


def _of_numbers(formula: Callable[..., float]) -> Callable[..., object]:
    """A formula of numbers only."""

    @wraps(formula)
    def called(*values: object) -> Decimal:
        try:
            return _exact(formula(*map(_number, values)))
        except (OverflowError, ZeroDivisionError):
            raise ValueError("the result is no number") from None

    return called


def _spreading(value: object) -> int:
    number = _number(value)
    if number not in radio.REQUIRED_SNR:
        raise ValueError(f"{number:g} is not a spreading factor from 5 to 12")
    return int(number)


def time_on_air(payload: object, spreading: object, bandwidth: object) -> Decimal:
    """Seconds that a LoRa packet takes, by the bytes of its payload; bandwidth in hertz, coding 4/5, a preamble of 8 symbols,
    header and checksum (published modulation description)."""
    hertz = _number(bandwidth)
    if hertz <= 0:
        raise ValueError("a bandwidth is above 0 Hz")
    return _exact(radio.time_on_air(int(_number(payload)), _spreading(spreading), hertz))


def sensitivity(spreading: object, bandwidth: object) -> Decimal:
    """The weakest signal in dBm that a LoRa receiver with a noise figure of 6 dB demodulates; bandwidth in hertz."""
    hertz = _number(bandwidth)
    if hertz <= 0:
        raise ValueError("a bandwidth is above 0 Hz")
    return _exact(radio.sensitivity(_spreading(spreading), hertz))


def signal_value(scale: object, number: object) -> Decimal:
    """What a number of a signal report means, in dBm or dB (3GPP TS 27.007): `signal_value("csq", 18)`; also rxlev, rscp, ecno,
    rsrq, rsrp, sinr."""
    return _exact(cellular.value_of(_scale(scale), int(_number(number))))


def signal_words(scale: object, number: object) -> str:
    """What a number of a signal report is worth: good, fair, weak, or poor."""
    name = _scale(scale)
    return cellular.in_words(name, cellular.value_of(name, int(_number(number))))


def _scale(name: object) -> str:
    if str(name) not in cellular.SCALES:
        raise ValueError(f"{str(name)[:20]!r} is not a signal report; {meant(str(name)[:20], cellular.SCALES)}")
    return str(name)


def _units(form: object) -> dict[int, int]:
    if str(form) not in cellular.UNITS:
        raise ValueError(f"{str(form)[:20]!r} is not one of {', '.join(cellular.UNITS)}")
    return cellular.UNITS[str(form)]


def timer_seconds(bits: object, form: object) -> int:
    """The seconds of a timer's eight bits, `gprs-2` (T3324) or `gprs-3` (T3412 extended); 0 if it is off (3GPP TS 24.008)."""
    text = str(bits)
    if len(text) != 8 or set(text) - set("01"):
        raise ValueError(f"{text[:20]!r} is not eight bits")
    return cellular.decoded(text, _units(form))


def timer_bits(seconds: object, form: object) -> str:
    """The eight bits of a timer, `gprs-2` or `gprs-3` (3GPP TS 24.008)."""
    found = cellular.codings(_number(seconds), _units(form))
    if not found:
        raise ValueError(f"{seconds} s cannot be coded")
    return found[0]


def check(name: object, data: object) -> str:
    """A check of bytes in hexadecimal digits: `check("crc-16/modbus", data)`. `wexicon calc check` has the names."""
    if str(name) not in checksums.CHECKS:
        raise ValueError(f"{str(name)[:30]!r} is not a check; {meant(str(name)[:30], checksums.CHECKS)}")
    width, function = checksums.CHECKS[str(name)]
    return f"{function(to_bytes(str(data))):0{width // 4}X}"


def sha256(text: object) -> str:
    """The SHA-256 of a text's bytes in hexadecimal digits (FIPS 180-4): for logins by challenge."""
    return hashlib.sha256(to_bytes(str(text))).hexdigest()


def md5(text: object) -> str:
    """The MD5 of a text's bytes in hexadecimal digits (RFC 1321): for old logins; it protects nothing."""
    return hashlib.md5(to_bytes(str(text)), usedforsecurity=False).hexdigest()


def hmac_sha256(key: object, text: object) -> str:
    """The HMAC of a text under a key, with SHA-256, in hexadecimal digits (RFC 2104)."""
    return hmac.new(to_bytes(str(key)), to_bytes(str(text)), hashlib.sha256).hexdigest()


def distance(latitude: float, longitude: float, to_latitude: float, to_longitude: float) -> float:
    """Metres between two places over the ellipsoid of WGS 84; degrees, north and east positive."""
    _check_places(latitude, to_latitude)
    return radio.distance_and_bearings(latitude, longitude, to_latitude, to_longitude)[0]


def bearing(latitude: float, longitude: float, to_latitude: float, to_longitude: float) -> float:
    """Degrees clockwise from north in which the second place lies from the first."""
    _check_places(latitude, to_latitude)
    return radio.distance_and_bearings(latitude, longitude, to_latitude, to_longitude)[1]


def _check_places(*latitudes: float) -> None:
    if any(abs(one) > 90 for one in latitudes):
        raise ValueError("a latitude is from -90 to 90 degrees")


def wire_time(characters: object, rate: object) -> Decimal:
    """Seconds that characters take on the wire at a rate in baud, with 8N1."""
    return _exact(Tuning.of(int(_number(rate))).wire_time(int(_number(characters))))


FORMULAS: dict[str, Callable[..., object]] = {
    "dbm": _of_numbers(lambda milliwatts: radio.dbm_of_milliwatts(milliwatts)),
    "milliwatts": _of_numbers(lambda dbm: radio.milliwatts_of_dbm(dbm)),
    "free_space_loss": _of_numbers(lambda distance, frequency: radio.free_space_loss(distance, frequency)),
    "time_on_air": time_on_air,
    "sensitivity": sensitivity,
    "signal_value": signal_value,
    "signal_words": signal_words,
    "timer_seconds": timer_seconds,
    "timer_bits": timer_bits,
    "check": check,
    "sha256": sha256,
    "md5": md5,
    "hmac_sha256": hmac_sha256,
    "distance": _of_numbers(distance),
    "bearing": _of_numbers(bearing),
    "wire_time": wire_time,
}


def pdus(to: object, text: object, report: object = False) -> list[str]:
    """Short messages as hexadecimal PDUs for AT+CMGS (3GPP TS 23.040, 9.2.2.2), in the GSM alphabet if it has all letters, else
    in UCS-2; with `report` the network reports the delivery of each."""
    # What joins the parts of one text differs from that of another, as far as eight bits can.
    return pdu.submit(str(to), str(text), crc32(to_bytes(f"{to} {text}")) & 0xFF, report=bool(report))


def pdu_length(unit: object) -> int:
    """Octets of a PDU without the service centre's address, as AT+CMGS wants (3GPP TS 27.005, 4.3)."""
    return pdu.length(str(unit))


def pdu_text(unit: object) -> str:
    """The text of a received PDU (3GPP TS 23.040, 9.2.2.1)."""
    return pdu.read(str(unit)).text


def pdu_number(unit: object) -> str:
    """The sender's number of a received PDU (3GPP TS 23.040, 9.1.2.5)."""
    return pdu.read(str(unit)).number


def pdu_time(unit: object) -> str:
    """When the network took a received PDU (3GPP TS 23.040, 9.2.3.11), as date and time."""
    return pdu.read(str(unit)).stamp


def pdu_part(unit: object) -> str:
    """Which part of a long message a PDU is (3GPP TS 23.040, 9.2.3.24.1): `1 of 1` where it is a whole one."""
    found = pdu.read(str(unit))
    return f"{found.part} of {found.parts}"


def pdu_reference(unit: object) -> int:
    """The reference that the parts of a long message share (3GPP TS 23.040, 9.2.3.24.1); 0 where it is a whole one."""
    return pdu.read(str(unit)).reference


def pdu_status(unit: object) -> str:
    """What a status report says of a message (3GPP TS 23.040, 9.2.3.15): `delivered`, or what else became of it."""
    found = pdu.read(str(unit))
    if not found.status:
        raise ValueError("is no status report")
    return found.status


def stored_messages(lines: object, what: object) -> list[str]:
    """Of the lines that answer AT+CMGL in PDU mode (3GPP TS 27.005, 4.1) the index, sender, time or message of each message;
    long ones are put together, and of one that is not complete each part says so."""
    found = list(lines) if isinstance(lines, list) else [str(lines)]
    heads = [re.fullmatch(r"\+CMGL: ([0-9]{1,5}),.*", str(one)) for one in found]
    # A PDU that came twice is one message with both indexes.
    indexes: dict[str, str] = {}
    for head, unit in zip(heads, found[1:], strict=False):
        if head:
            indexes[str(unit)] = f"{indexes[str(unit)]}+{head[1]}" if str(unit) in indexes else head[1]
    made = []
    for one in pdu.join(list(indexes)):
        own = [index for text, index in indexes.items() if _belongs(pdu.read(text), one)]
        alone = one.parts > 1 and len(own) < one.parts
        text = f"(part {one.part} of {one.parts}, the others are missing) {one.text}" if alone else one.text
        told = {"index": "+".join(own), "sender": one.number, "time": one.stamp, "message": text}
        if str(what) not in told:
            raise ValueError(f"{what} is not one of {', '.join(told)}")
        made.append(told[str(what)])
    return made


def _belongs(part: pdu.Message, whole: pdu.Message) -> bool:
    """Whether a PDU is part of a message."""
    if whole.parts < 2:
        return part == whole
    return (part.number, part.reference, part.parts) == (whole.number, whole.reference, whole.parts)


def in_gsm_alphabet(text: object) -> bool:
    """Whether the GSM 7-bit default alphabet and its extension have all letters of a text (3GPP TS 23.038, 6.2.1)."""
    try:
        charsets.gsm7_codes(str(text))
    except ValueError:
        return False
    return True


def talker_name(talker: object) -> str:
    """What kind of device a talker identifier is (NMEA 0183); the identifier itself if unknown."""
    return gnss.TALKERS.get(str(talker), str(talker))


def in_degrees(angle: object, side: object) -> Decimal:
    """Degrees, south and west negative, from `ddmm.mmmm` and a letter (NMEA 0183)."""
    return gnss.degrees(str(angle), str(side))


FORMULAS |= {
    "pdus": pdus,
    "pdu_length": pdu_length,
    "pdu_text": pdu_text,
    "pdu_number": pdu_number,
    "pdu_time": pdu_time,
    "pdu_part": pdu_part,
    "pdu_reference": pdu_reference,
    "pdu_status": pdu_status,
    "stored_messages": stored_messages,
    "registration_state": lambda code: cellular.registration_state(code),
    "access_technology": lambda code: cellular.access_technology(code),
    "call_state": lambda code: cellular.call_state(code),
    "in_gsm_alphabet": in_gsm_alphabet,
    "talker_name": talker_name,
    "degrees": in_degrees,
}
