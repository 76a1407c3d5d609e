"""The functions that an expression may call.

The rule: a function takes and returns numbers, texts and lists; it reads nothing else, ends at once, and raises ValueError for
an argument that it cannot use. The package entry point `wexicon.functions` adds more.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from decimal import Decimal, DecimalException
from zlib import crc32

from wexicon.core.dialogue.sums import SUMS
from wexicon.core.registry import Registry
from wexicon.core.standards import pdu
from wexicon.core.standards.charsets import gsm7_codes
from wexicon.core.standards.nmea import TALKERS, degrees
from wexicon.core.standards.registration import access_technology, call_state, registration_state
from wexicon.core.text import to_bytes, to_text

Number = int | Decimal


def length(value: str | Sequence[object]) -> int:
    """Bytes of a text (as it is sent), or parts of a list."""
    return len(to_bytes(value)) if isinstance(value, str) else len(value)


def ramp(size: object) -> str:
    """Bytes that count up from 0, and from 0 again after 255, to have every value in a payload: at most 65,536."""
    if not isinstance(size, int) or not 0 <= size <= 65_536:
        raise ValueError(f"{size} is not a number of bytes from 0 to 65536")
    return to_text(bytes(range(256)) * (size // 256) + bytes(range(size % 256)))


def count(values: Sequence[object], one: object) -> int:
    """How often `one` is among the values, or in a text."""
    return values.count(one)


def number(value: object) -> Number:
    """The number that a text of at most 40 characters writes in decimal."""
    text = str(value).strip()
    if len(text) > 40:
        raise ValueError("is too long for a number")
    try:
        return int(text)
    except ValueError:
        try:
            found = Decimal(text)
        except DecimalException:
            raise ValueError(f"{text!r} is not a number") from None
        if not found.is_finite():
            raise ValueError("is not a number") from None
        return found


def hex_number(text: object) -> int:
    """The number that a text of at most 40 characters writes in hexadecimal."""
    digits = str(text).strip()
    if len(digits) > 40:
        raise ValueError("is too long for a number")
    try:
        return int(digits, 16)
    except ValueError:
        raise ValueError(f"{digits!r} is not hexadecimal") from None


def as_text(value: object) -> str:
    """The value as text."""
    return str(value)


def upper(text: object) -> str:
    """The text in capitals."""
    return str(text).upper()


def lower(text: object) -> str:
    """The text in small letters."""
    return str(text).lower()


def starts(text: object, start: object) -> bool:
    """Whether the text begins with `start`."""
    return str(text).startswith(str(start))


def ends(text: object, end: object) -> bool:
    """Whether the text ends with `end`."""
    return str(text).endswith(str(end))


def by_lexicon(setting: object, value: object) -> object:
    """The value behind a module's code, or the code of a value, by a setting's kind: `decoded("timer", text)`. A dialogue with
    a lexicon has its own."""
    raise ValueError("there is no lexicon that knows this setting")


def since(mark: object) -> object:
    """How many seconds ago `mark NAME` kept the time. A dialogue has its own, with its clock."""
    raise ValueError("there is no clock here")


def pin(name: object) -> bool:
    """Whether a pin of the module is on, by the fixture. A dialogue with a lexicon has its own."""
    raise ValueError("there is no fixture here that reads pins")


def split(text: object, by: object = ",") -> list[str]:
    """The parts of a text between separators."""
    if not str(by):
        raise ValueError("the separator is empty")
    return str(text).split(str(by))


def first(values: Sequence[object]) -> object:
    """The first part of a list or text."""
    return values[0]


def last(values: Sequence[object]) -> object:
    """The last part of a list or text."""
    return values[-1]


def rounded(value: Number, places: int = 0) -> Number:
    """Rounded to decimal places, half to even."""
    nearest = round(Decimal(value), places)
    return int(nearest) if places <= 0 else nearest


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
        gsm7_codes(str(text))
    except ValueError:
        return False
    return True


def talker_name(talker: object) -> str:
    """What kind of device a talker identifier is (NMEA 0183); the identifier itself if unknown."""
    return TALKERS.get(str(talker), str(talker))


def in_degrees(angle: object, side: object) -> Decimal:
    """Degrees, south and west negative, from `ddmm.mmmm` and a letter (NMEA 0183)."""
    return degrees(str(angle), str(side))


FUNCTIONS: Registry[Callable[..., object]] = Registry(
    "wexicon.functions",
    {
        "length": length,
        "ramp": ramp,
        "count": count,
        "number": number,
        "hex_number": hex_number,
        "text": as_text,
        "upper": upper,
        "lower": lower,
        "starts": starts,
        "ends": ends,
        "decoded": by_lexicon,
        "encoded": by_lexicon,
        "since": since,
        "pin": pin,
        "split": split,
        "first": first,
        "last": last,
        "min": min,
        "max": max,
        "sum": sum,
        "abs": abs,
        "round": rounded,
        "pdus": pdus,
        "pdu_length": pdu_length,
        "pdu_text": pdu_text,
        "pdu_number": pdu_number,
        "pdu_time": pdu_time,
        "pdu_part": pdu_part,
        "pdu_reference": pdu_reference,
        "pdu_status": pdu_status,
        "stored_messages": stored_messages,
        "registration_state": registration_state,
        "access_technology": access_technology,
        "call_state": call_state,
        "in_gsm_alphabet": in_gsm_alphabet,
        "talker_name": talker_name,
        "degrees": in_degrees,
        **SUMS,
    },
)
