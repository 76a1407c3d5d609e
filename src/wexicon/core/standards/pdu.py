"""Short messages as protocol data units: SMS-SUBMIT to send, SMS-DELIVER and SMS-STATUS-REPORT as received (3GPP TS 23.040,
9.2.2); and each field of one, with what it says.

The rule: what is sent is text in the GSM 7-bit alphabet where that carries it, else in UCS-2; a text that is too long for one
message becomes several that belong together (9.2.3.24.1). A PDU begins with the address of the service centre, as +CMGS and
+CMGR have it (3GPP TS 27.005, 3.1); its length does not count that address. Every octet is in one field, by the standard's
names. Clauses were written from memory; another decoder judges what is made.
"""

from __future__ import annotations

from typing import NamedTuple

import msgspec

from wexicon.core.standards.charsets import CharsetFault, gsm7_codes, gsm7_text, pack, ucs2, ucs2_text, unpack

# Septets and octets that one message carries, alone and with a concatenation header of six octets (9.2.3.24.1).
SEPTETS, OCTETS = 160, 140
HEADER = 6
_INTERNATIONAL, _UNKNOWN_TYPE, _ALPHANUMERIC = 0x91, 0x81, 0xD0
_SEMI_OCTETS = "0123456789*#abc"


class PduFault(ValueError):
    """Hexadecimal digits that are no such PDU."""


class Message(msgspec.Struct, frozen=True):
    """A message as its PDU reports it. `number` is the other side's; `part` of `parts`, of the message `reference`. Of a status
    report `status` says what became of the message that the module sent under this reference, and `text` is empty."""

    number: str
    text: str
    stamp: str = ""
    reference: int = 0
    part: int = 1
    parts: int = 1
    status: str = ""


def semi_octets(digits: str) -> bytes:
    """Digits in swapped halves, filled with F (9.1.2.3)."""
    padded = digits + "F" * (len(digits) % 2)
    return bytes.fromhex("".join(padded[at + 1] + padded[at] for at in range(0, len(padded), 2)))


def digits(octets: bytes, count: int) -> str:
    """The digits of semi-octets (9.1.2.3)."""
    swapped = "".join(f"{octet & 15:x}{octet >> 4:x}" for octet in octets)[:count]
    return "".join("0123456789*#abcF"[int(digit, 16)] for digit in swapped).rstrip("F")


def address(number: str) -> bytes:
    """An address field: length in digits, type, digits (9.1.2.5)."""
    digits = number.lstrip("+")
    if not digits or not all(digit in _SEMI_OCTETS for digit in digits) or len(digits) > 20:
        raise PduFault(f"{number!r} is not a telephone number")
    coded = "".join("0123456789ABCDE"[_SEMI_OCTETS.index(digit)] for digit in digits)
    return bytes([len(digits), _INTERNATIONAL if number.startswith("+") else _UNKNOWN_TYPE]) + semi_octets(coded)


def _pieces(text: str) -> tuple[bool, list[bytes]]:
    """Whether it is UCS-2, and its codes cut so that each piece fits into one message; no character is cut in two."""
    try:
        chars = [gsm7_codes(one) for one in text]
        wide, alone, each = False, SEPTETS, (OCTETS - HEADER) * 8 // 7
    except CharsetFault:
        chars = [ucs2(one) for one in text]
        wide, alone, each = True, OCTETS, OCTETS - HEADER
    if sum(map(len, chars)) <= alone:
        return wide, [b"".join(chars)]
    pieces, piece = [], b""
    for char in chars:
        if len(piece) + len(char) > each:
            pieces.append(piece)
            piece = b""
        piece += char
    return wide, [*pieces, piece]


def _user_data(codes: bytes, wide: bool, header: bytes) -> bytes:
    """User data length and user data (9.2.3.16, 9.2.3.24); septets begin at a septet boundary after the header."""
    if wide:
        return bytes([len(header) + len(codes)]) + header + codes
    fill = -len(header) * 8 % 7
    septets = (len(header) * 8 + fill) // 7 + len(codes)
    return bytes([septets]) + header + pack(codes, fill)


def submit(number: str, text: str, reference: int = 1, *, report: bool = False) -> list[str]:
    """The PDUs (SMS-SUBMIT, 9.2.2.2) that send a text, in hexadecimal, with no service centre given; `report`: the network
    reports what becomes of each (TP-SRR, 9.2.3.5)."""
    wide, pieces = _pieces(text)
    if len(pieces) > 255:
        raise PduFault("the text is longer than 255 messages")
    pdus = []
    for index, piece in enumerate(pieces, 1):
        header = bytes([5, 0, 3, reference & 255, len(pieces), index]) if len(pieces) > 1 else b""
        first = 0x01 | (0x20 if report else 0) | (0x40 if header else 0)
        scheme = 0x08 if wide else 0x00
        body = bytes([first, 0]) + address(number) + bytes([0, scheme]) + _user_data(piece, wide, header)
        pdus.append((b"\x00" + body).hex().upper())
    return pdus


def length(pdu: str) -> int:
    """The length that +CMGS wants: octets without the service centre's address (27.005, 4.3)."""
    octets = octets_of(pdu)
    return len(octets) - 1 - octets[0]


def octets_of(pdu: str) -> bytes:
    """The octets of a PDU. Raises PduFault."""
    try:
        octets = bytes.fromhex(pdu)
    except ValueError:
        raise PduFault(f"{pdu[:20]!r} is not hexadecimal") from None
    if not octets or len(octets) < 2 + octets[0]:
        raise PduFault("the PDU is too short")
    return octets


def take_address(octets: bytes, at: int) -> tuple[str, int]:
    """The number of an address field at a place (9.1.2.5), and the place after it."""
    count, kind = octets[at], octets[at + 1]
    size = (count + 1) // 2
    field = octets[at + 2 : at + 2 + size]
    if kind & 0x70 == _ALPHANUMERIC & 0x70:
        return gsm7_text(unpack(field, count * 4 // 7)), at + 2 + size
    return ("+" if kind & 0x70 == 0x10 else "") + digits(field, count), at + 2 + size


def read(pdu: str) -> Message:
    """A PDU, SMS-SUBMIT, SMS-DELIVER or SMS-STATUS-REPORT, as a message. Raises PduFault."""
    octets = octets_of(pdu)
    at = 1 + octets[0]
    try:
        first = octets[at]
        if first & 3 == 2:
            return _status_report(octets, at)
        sends = first & 3 == 1
        number, at = take_address(octets, at + (2 if sends else 1))
        scheme = octets[at + 1]
        at += 2
        stamp = ""
        if sends:
            at += {0: 0, 1: 7, 2: 1, 3: 7}[first >> 3 & 3]
        else:
            stamp = digits(octets[at : at + 6], 12)
            at += 7
        return _message(number, stamp, bool(first & 0x40), scheme, octets[at], octets[at + 1 :])
    except (IndexError, ValueError) as fault:
        raise PduFault(f"the PDU cannot be read: {fault}") from None


def _status_report(octets: bytes, at: int) -> Message:
    """SMS-STATUS-REPORT (9.2.2.3): reference, recipient, two time stamps, status."""
    number, end = take_address(octets, at + 2)
    stamp = digits(octets[end : end + 6], 12)
    return Message(number, "", when(stamp), octets[at + 1], status=status_in_words(octets[end + 14]))


def status_in_words(status: int) -> str:
    """What became of a message (TP-ST, 9.2.3.15): by the ranges of its value."""
    if status == 0:
        return "delivered"
    if status < 0x20:
        return "passed on"
    if status < 0x40 or 0x60 <= status < 0x80:
        return "not delivered yet" if status < 0x40 else "not delivered, no further try"
    return "not delivered"


def wants_report(pdu: str) -> bool:
    """Whether a PDU that is sent asks for a status report."""
    octets = octets_of(pdu)
    return bool(octets[1 + octets[0]] & 0x20)


def status_report(reference: int, recipient: str, stamp: str, status: int = 0) -> str:
    """What a network makes of what became of a message (SMS-STATUS-REPORT, 9.2.2.3): sent and settled at the same time."""
    at = semi_octets(stamp)
    body = bytes([0x02, reference & 255]) + address(recipient) + at + at + bytes([status])
    return (b"\x00" + body).hex().upper()


def join(pdus: list[str]) -> list[Message]:
    """Messages as their PDUs report them, those in several parts put together once all parts are there. A part whose others
    are missing stays a message by itself."""
    found: list[Message] = []
    open_: dict[tuple[str, int, int], dict[int, Message]] = {}
    for pdu in pdus:
        one = read(pdu)
        if one.parts < 2:
            found.append(one)
            continue
        key = (one.number, one.reference, one.parts)
        parts = open_.setdefault(key, {})
        parts[one.part] = one
        if len(parts) == one.parts:
            text = "".join(parts[number].text for number in sorted(parts))
            found.append(Message(one.number, text, parts[min(parts)].stamp, one.reference, 1, one.parts))
            del open_[key]
    return found + [part for parts in open_.values() for part in parts.values()]


def when(stamp: str) -> str:
    """A time stamp's digits as date and time; empty if they are none."""
    if len(stamp) != 12:
        return ""
    return f"20{stamp[:2]}-{stamp[2:4]}-{stamp[4:6]} {stamp[6:8]}:{stamp[8:10]}:{stamp[10:12]}"


def _message(number: str, stamp: str, headed: bool, scheme: int, size: int, data: bytes) -> Message:
    header = data[: data[0] + 1] if headed else b""
    reference, parts, part = 0, 1, 1
    at = 1
    while at + 1 < len(header):
        kind, long = header[at], header[at + 1]
        if kind == 0 and long == 3:
            reference, parts, part = header[at + 2 : at + 5]
        elif kind == 8 and long == 4:
            # The same with a reference of 16 bits (9.2.3.24.8).
            reference, parts, part = header[at + 2] << 8 | header[at + 3], header[at + 4], header[at + 5]
        at += 2 + long
    if scheme & 0x0C == 0x08:
        text = ucs2_text(data[len(header) : size])
    elif scheme & 0x0C == 0x04:
        text = data[len(header) : size].decode("latin-1")
    else:
        fill = -len(header) * 8 % 7
        text = gsm7_text(unpack(data[len(header) :], size - (len(header) * 8 + fill) // 7, fill))
    return Message(number, text, when(stamp), reference, part, parts)


def deliver(pdu: str, sender: str, stamp: str = "26030208000000") -> str:
    """What a network makes of a sent PDU (SMS-DELIVER, 9.2.2.1): the sender's address, a time stamp, the same user data."""
    octets = octets_of(pdu)
    at = 1 + octets[0]
    headed = octets[at] & 0x40
    _, end = take_address(octets, at + 2)
    scheme = octets[end + 1]
    data = octets[end + 2 + {0: 0, 1: 7, 2: 1, 3: 7}[octets[at] >> 3 & 3] :]
    body = bytes([0x04 | headed]) + address(sender) + bytes([0, scheme]) + semi_octets(stamp) + data
    return (b"\x00" + body).hex().upper()


_KINDS = {0: "SMS-DELIVER", 1: "SMS-SUBMIT", 2: "SMS-STATUS-REPORT"}
_ALPHABETS = {0x00: "GSM 7-bit", 0x04: "8-bit data", 0x08: "UCS-2"}


class PduField(NamedTuple):
    """A field: its name, its octets in hexadecimal, and what it says."""

    name: str
    octets: str
    says: str


def fields(text: str) -> list[PduField]:
    """The fields of a PDU. Raises PduFault."""
    message = read(text)  # raises for one that cannot be read whole
    octets = octets_of(text)
    made: list[PduField] = []
    at = 0

    def take(name: str, size: int, says: str) -> None:
        nonlocal at
        if size:
            made.append(PduField(name, octets[at : at + size].hex(" ").upper(), says))
        at += size

    take("SMSC", 1 + octets[0], "the module's own" if not octets[0] else "service centre")
    first = octets[at]
    kind = first & 3
    flags = [
        word for bit, word in ((0x40, "user data header"), (0x20, "status report"), (0x80, "reply path")) if first & bit
    ]
    take("first octet", 1, ", ".join([_KINDS.get(kind, "reserved"), *flags]))
    if kind:
        take("TP-MR", 1, f"reference {octets[at]}")
    number, end = take_address(octets, at)
    take({0: "TP-OA", 1: "TP-DA", 2: "TP-RA"}[kind], end - at, number)
    if kind == 2:
        take("TP-SCTS", 7, message.stamp)
        take("TP-DT", 7, when(digits(octets[at : at + 6], 12)))
        take("TP-ST", 1, message.status)
        take("more", len(octets) - at, "optional parameters")
        return made
    take("TP-PID", 1, "a message" if not octets[at] else "another protocol")
    scheme = octets[at]
    take("TP-DCS", 1, _ALPHABETS.get(scheme & 0x0C, "GSM 7-bit"))
    if kind == 0:
        take("TP-SCTS", 7, message.stamp)
    else:
        take("TP-VP", {0: 0, 1: 7, 2: 1, 3: 7}[first >> 3 & 3], "validity period")
    unit = "octets" if scheme & 0x0C in (0x04, 0x08) else "septets"
    take("TP-UDL", 1, f"{octets[at]} {unit}")
    if first & 0x40:
        take("TP-UDH", 1 + octets[at], f"part {message.part} of {message.parts}, reference {message.reference}")
    take("TP-UD", len(octets) - at, message.text)
    return made
