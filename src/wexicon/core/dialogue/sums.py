"""The sums of `core/engineering` and the checks of `core/standards` as functions of expressions.

The rule: the formula is the one that `wexicon calc` uses; here only the numbers of expressions (whole or decimal) become those
of formulas, and back.
"""

from __future__ import annotations

import hashlib
import hmac
from collections.abc import Callable
from decimal import Decimal
from functools import wraps
from math import isfinite

from wexicon.core.engineering import geodesy, lora, radio
from wexicon.core.standards import checksums, signal_quality, timers
from wexicon.core.text import meant, to_bytes
from wexicon.core.tuning import Tuning

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
    if number not in lora.REQUIRED_SNR:
        raise ValueError(f"{number:g} is not a spreading factor from 5 to 12")
    return int(number)


def time_on_air(payload: object, spreading: object, bandwidth: object) -> Decimal:
    """Seconds that a LoRa packet takes, by the bytes of its payload; bandwidth in hertz, coding 4/5, a preamble of 8 symbols,
    header and checksum (published modulation description)."""
    hertz = _number(bandwidth)
    if hertz <= 0:
        raise ValueError("a bandwidth is above 0 Hz")
    return _exact(lora.time_on_air(int(_number(payload)), _spreading(spreading), hertz))


def sensitivity(spreading: object, bandwidth: object) -> Decimal:
    """The weakest signal in dBm that a LoRa receiver with a noise figure of 6 dB demodulates; bandwidth in hertz."""
    hertz = _number(bandwidth)
    if hertz <= 0:
        raise ValueError("a bandwidth is above 0 Hz")
    return _exact(lora.sensitivity(_spreading(spreading), hertz))


def signal_value(scale: object, number: object) -> Decimal:
    """What a number of a signal report means, in dBm or dB (3GPP TS 27.007): `signal_value("csq", 18)`; also rxlev, rscp, ecno,
    rsrq, rsrp, sinr."""
    return _exact(signal_quality.value_of(_scale(scale), int(_number(number))))


def signal_words(scale: object, number: object) -> str:
    """What a number of a signal report is worth: good, fair, weak, or poor."""
    name = _scale(scale)
    return signal_quality.in_words(name, signal_quality.value_of(name, int(_number(number))))


def _scale(name: object) -> str:
    if str(name) not in signal_quality.SCALES:
        raise ValueError(f"{str(name)[:20]!r} is not a signal report; {meant(str(name)[:20], signal_quality.SCALES)}")
    return str(name)


def _units(form: object) -> dict[int, int]:
    if str(form) not in timers.UNITS:
        raise ValueError(f"{str(form)[:20]!r} is not one of {', '.join(timers.UNITS)}")
    return timers.UNITS[str(form)]


def timer_seconds(bits: object, form: object) -> int:
    """The seconds of a timer's eight bits, `gprs-2` (T3324) or `gprs-3` (T3412 extended); 0 if it is off (3GPP TS 24.008)."""
    text = str(bits)
    if len(text) != 8 or set(text) - set("01"):
        raise ValueError(f"{text[:20]!r} is not eight bits")
    return timers.decoded(text, _units(form))


def timer_bits(seconds: object, form: object) -> str:
    """The eight bits of a timer, `gprs-2` or `gprs-3` (3GPP TS 24.008)."""
    found = timers.codings(_number(seconds), _units(form))
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
    return geodesy.distance_and_bearings(latitude, longitude, to_latitude, to_longitude)[0]


def bearing(latitude: float, longitude: float, to_latitude: float, to_longitude: float) -> float:
    """Degrees clockwise from north in which the second place lies from the first."""
    _check_places(latitude, to_latitude)
    return geodesy.distance_and_bearings(latitude, longitude, to_latitude, to_longitude)[1]


def _check_places(*latitudes: float) -> None:
    if any(abs(one) > 90 for one in latitudes):
        raise ValueError("a latitude is from -90 to 90 degrees")


def wire_time(characters: object, rate: object) -> Decimal:
    """Seconds that characters take on the wire at a rate in baud, with 8N1."""
    return _exact(Tuning.of(int(_number(rate))).wire_time(int(_number(characters))))


SUMS: dict[str, Callable[..., object]] = {
    "dbm": _of_numbers(radio.dbm_of_milliwatts),
    "milliwatts": _of_numbers(radio.milliwatts_of_dbm),
    "free_space_loss": _of_numbers(radio.free_space_loss),
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
