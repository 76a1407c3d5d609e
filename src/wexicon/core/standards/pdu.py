"""Short messages as protocol data units: SMS-SUBMIT to send, SMS-DELIVER as received (3GPP TS 23.040, 9.2.2).

The rule: what is sent is text in the GSM 7-bit alphabet where that carries it, else in UCS-2; a text that is too long for one
message becomes several that belong together (9.2.3.24.1). A unit begins with the address of the service centre, as +CMGS and
+CMGR have it (3GPP TS 27.005, 3.1); its length does not count that address.
"""

from __future__ import annotations

import msgspec

from wexicon.core.standards.charsets import CharsetFault, gsm7_codes, gsm7_text, pack, ucs2, ucs2_text, unpack

# Septets and octets that one message carries, alone and with a concatenation header of six octets (9.2.3.24.1).
SEPTETS, OCTETS = 160, 140
HEADER = 6
_INTERNATIONAL, _UNKNOWN_TYPE, _ALPHANUMERIC = 0x91, 0x81, 0xD0
_SEMI_OCTETS = "0123456789*#abc"


class PduFault(ValueError):
    """Hexadecimal digits that are no such unit."""


class Message(msgspec.Struct, frozen=True):
    """A message as its unit reports it. `number` is the other side's; `part` of `parts`, of the message `reference`."""

    number: str
    text: str
    stamp: str = ""
    reference: int = 0
    part: int = 1
    parts: int = 1


def semi_octets(digits: str) -> bytes:
    """Digits in swapped halves, filled with F (9.1.2.3)."""
    padded = digits + "F" * (len(digits) % 2)
    return bytes.fromhex("".join(padded[at + 1] + padded[at] for at in range(0, len(padded), 2)))


def _digits(octets: bytes, count: int) -> str:
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
        units = [gsm7_codes(char) for char in text]
        wide, alone, each = False, SEPTETS, (OCTETS - HEADER) * 8 // 7
    except CharsetFault:
        units = [ucs2(char) for char in text]
        wide, alone, each = True, OCTETS, OCTETS - HEADER
    if sum(map(len, units)) <= alone:
        return wide, [b"".join(units)]
    pieces, piece = [], b""
    for unit in units:
        if len(piece) + len(unit) > each:
            pieces.append(piece)
            piece = b""
        piece += unit
    return wide, [*pieces, piece]


def _user_data(codes: bytes, wide: bool, header: bytes) -> bytes:
    """User data length and user data (9.2.3.16, 9.2.3.24); septets begin at a septet boundary after the header."""
    if wide:
        return bytes([len(header) + len(codes)]) + header + codes
    fill = -len(header) * 8 % 7
    septets = (len(header) * 8 + fill) // 7 + len(codes)
    return bytes([septets]) + header + pack(codes, fill)


def submit(number: str, text: str, reference: int = 1) -> list[str]:
    """The units (SMS-SUBMIT, 9.2.2.2) that send a text, in hexadecimal, with no service centre given."""
    wide, pieces = _pieces(text)
    if len(pieces) > 255:
        raise PduFault("the text is longer than 255 messages")
    units = []
    for index, piece in enumerate(pieces, 1):
        header = bytes([5, 0, 3, reference & 255, len(pieces), index]) if len(pieces) > 1 else b""
        first = 0x01 | (0x40 if header else 0)
        scheme = 0x08 if wide else 0x00
        body = bytes([first, 0]) + address(number) + bytes([0, scheme]) + _user_data(piece, wide, header)
        units.append((b"\x00" + body).hex().upper())
    return units


def length(unit: str) -> int:
    """The length that +CMGS wants: octets without the service centre's address (27.005, 4.3)."""
    octets = _octets(unit)
    return len(octets) - 1 - octets[0]


def _octets(unit: str) -> bytes:
    try:
        octets = bytes.fromhex(unit)
    except ValueError:
        raise PduFault(f"{unit[:20]!r} is not hexadecimal") from None
    if not octets or len(octets) < 2 + octets[0]:
        raise PduFault("the unit is too short")
    return octets


def _take_address(octets: bytes, at: int) -> tuple[str, int]:
    count, kind = octets[at], octets[at + 1]
    size = (count + 1) // 2
    field = octets[at + 2 : at + 2 + size]
    if kind & 0x70 == _ALPHANUMERIC & 0x70:
        return gsm7_text(unpack(field, count * 4 // 7)), at + 2 + size
    return ("+" if kind & 0x70 == 0x10 else "") + _digits(field, count), at + 2 + size


def read(unit: str) -> Message:
    """A unit, SMS-SUBMIT or SMS-DELIVER, as a message. Raises PduFault."""
    octets = _octets(unit)
    at = 1 + octets[0]
    try:
        first = octets[at]
        sends = first & 3 == 1
        number, at = _take_address(octets, at + (2 if sends else 1))
        scheme = octets[at + 1]
        at += 2
        stamp = ""
        if sends:
            at += {0: 0, 1: 7, 2: 1, 3: 7}[first >> 3 & 3]
        else:
            stamp = _digits(octets[at : at + 6], 12)
            at += 7
        return _message(number, stamp, bool(first & 0x40), scheme, octets[at], octets[at + 1 :])
    except (IndexError, CharsetFault) as fault:
        raise PduFault(f"the unit cannot be read: {fault}") from None


def _message(number: str, stamp: str, headed: bool, scheme: int, size: int, data: bytes) -> Message:
    header = data[: data[0] + 1] if headed else b""
    reference, parts, part = 0, 1, 1
    at = 1
    while at + 1 < len(header):
        kind, long = header[at], header[at + 1]
        if kind == 0 and long == 3:
            reference, parts, part = header[at + 2 : at + 5]
        at += 2 + long
    if scheme & 0x0C == 0x08:
        text = ucs2_text(data[len(header) : size])
    elif scheme & 0x0C == 0x04:
        text = data[len(header) : size].decode("latin-1")
    else:
        fill = -len(header) * 8 % 7
        text = gsm7_text(unpack(data[len(header) :], size - (len(header) * 8 + fill) // 7, fill))
    when = (
        f"20{stamp[:2]}-{stamp[2:4]}-{stamp[4:6]} {stamp[6:8]}:{stamp[8:10]}:{stamp[10:12]}" if len(stamp) == 12 else ""
    )
    return Message(number, text, when, reference, part, parts)


def deliver(unit: str, sender: str, stamp: str = "26030208000000") -> str:
    """What a network makes of a sent unit (SMS-DELIVER, 9.2.2.1): the sender's address, a time stamp, the same user data."""
    octets = _octets(unit)
    at = 1 + octets[0]
    headed = octets[at] & 0x40
    _, end = _take_address(octets, at + 2)
    scheme = octets[end + 1]
    data = octets[end + 2 + {0: 0, 1: 7, 2: 1, 3: 7}[octets[at] >> 3 & 3] :]
    body = bytes([0x04 | headed]) + address(sender) + bytes([0, scheme]) + semi_octets(stamp) + data
    return (b"\x00" + body).hex().upper()
