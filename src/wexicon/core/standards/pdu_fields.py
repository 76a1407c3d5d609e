"""A short message's PDU field by field: what each octet is, and what it says (3GPP TS 23.040, 9.2).

The rule: the fields are those of the three kinds that `pdu` reads, in their order; every octet of the PDU is in one of them.
Names are those of the standard.
"""

from __future__ import annotations

from typing import NamedTuple

from wexicon.core.standards.pdu import digits, octets_of, read, take_address, when

_KINDS = {0: "SMS-DELIVER", 1: "SMS-SUBMIT", 2: "SMS-STATUS-REPORT"}
_ALPHABETS = {0x00: "GSM 7-bit", 0x04: "8-bit data", 0x08: "UCS-2"}


class Field(NamedTuple):
    """A field: its name, its octets in hexadecimal, and what it says."""

    name: str
    octets: str
    says: str


def fields(text: str) -> list[Field]:
    """The fields of a PDU. Raises PduFault."""
    message = read(text)  # raises for one that cannot be read whole
    octets = octets_of(text)
    made: list[Field] = []
    at = 0

    def take(name: str, size: int, says: str) -> None:
        nonlocal at
        if size:
            made.append(Field(name, octets[at : at + size].hex(" ").upper(), says))
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
