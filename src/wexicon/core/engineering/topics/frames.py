"""Topics of frames: checksums by name, and which of them fits a given frame.

The rule: what is checked is shown, so that a wrong reading of text or hexadecimal is seen at once.
"""

from __future__ import annotations

from typing import Annotated

from wexicon.core.engineering.topic import Answer, Arg, CalcFault, Topic
from wexicon.core.standards import checksums
from wexicon.core.text import to_bytes, unescape, visible

MOST_SHOWN = 32


def data_of(text: str, digits: str) -> bytes:
    """The bytes of a text with escapes, or of hexadecimal digits. Raises CalcFault."""
    if bool(text) == bool(digits):
        raise CalcFault("give text or hex", "For example: hex=01030000000a, or text='GPGLL,,,,,,V,N'")
    try:
        return bytes.fromhex(digits.replace(":", " ").removeprefix("0x")) if digits else to_bytes(unescape(text))
    except ValueError as fault:
        raise CalcFault(f"{'hex' if digits else 'text'}: {fault}") from None


def _shown(data: bytes) -> str:
    told = data[:MOST_SHOWN].hex(" ")
    return f"{len(data)} bytes: {told}" + (" ..." if len(data) > MOST_SHOWN else "")


def check(
    kind: Annotated[str, Arg("which check", choices=(*checksums.CHECKS, "all"))] = "all",
    text: Annotated[str, Arg("the bytes as text, with escapes such as \\r or \\x02")] = "",
    hex: Annotated[str, Arg("the bytes in hexadecimal")] = "",
) -> Answer:
    """Checks of bytes: exclusive or, sums, Fletcher's, CRC-8, CRC-16 and CRC-32 by name.

    A file is given on the command line: --file FILE.
    """
    answer, data = Answer(), data_of(text, hex)
    answer.step(_shown(data))
    rows = []
    for name, (width, function) in checksums.CHECKS.items():
        if kind in (name, "all"):
            value = function(data)
            told = f"{value:0{width // 4}X}"
            if kind == name:
                answer.give(name, told)
                answer.give("low byte first", value.to_bytes(width // 8, "little").hex(" ").upper())
                if name in checksums.CRCS:
                    answer.step(_parameters(checksums.CRCS[name]))
            rows.append((name, told))
    if kind == "all":
        answer.table(("check", "value"), rows)
    return answer


def _parameters(crc: checksums.Crc) -> str:
    size = crc.width // 4
    return (
        f"polynomial {crc.polynomial:0{size}X}, start {crc.start:0{size}X}, {'' if crc.reflected else 'not '}reflected, final "
        f"exclusive or {crc.final:0{size}X}; 123456789 gives {crc.check:0{size}X}"
    )


def find(
    text: Annotated[str, Arg("a whole frame as text: its last bytes are the check")] = "",
    hex: Annotated[str, Arg("a whole frame in hexadecimal")] = "",
) -> Answer:
    """Which check fits a frame whose last bytes, or last hexadecimal digits, are its check.

    Up to four bytes at the beginning, such as a start mark, may be outside of the check. One frame can be a coincidence: try
    a second one.
    """
    answer, data = Answer(), data_of(text, hex)
    answer.step(_shown(data))
    rows = [(one.check, one.order, str(one.skipped), "bytes") for one in checksums.find(data)]
    rows += [(one.check, one.order, str(one.skipped), "digits") for one in _written(data)]
    # A wide check fits by chance less often than a narrow one.
    rows.sort(key=lambda row: -checksums.CHECKS[row[0]][0])
    if rows:
        if len(rows) > 1:
            answer.note(f"{len(rows)} fit, some by chance: try a second frame")
        answer.table(("check", "order", "bytes before it starts", "written as"), rows)
        answer.give("fits", rows[0][0])
    else:
        answer.give("fits", None, text="none")
        answer.note("Is the frame whole, and is its end mark (CR LF, ETX) left out?")
    return answer


def _written(data: bytes) -> list[checksums.FittingCheck]:
    """Fits of a frame whose check is written in hexadecimal digits, after a `*` perhaps."""
    found = []
    for size in (2, 4, 8):
        try:
            given = bytes.fromhex(data[-size:].decode("ascii"))
        except ValueError:
            continue
        body = data[:-size]
        for whole in dict.fromkeys((body.removesuffix(b"*"), body)):
            found += list(checksums.find(whole + given)) if len(given) * 2 == size else []
    widths = {name: width // 8 for name, (width, _) in checksums.CHECKS.items()}
    return [one for one in dict.fromkeys(found) if widths[one.check] in (1, 2, 4)]


def text_length(
    text: Annotated[str, Arg("the text of a message")],
) -> Answer:
    """Length of a message in the GSM 7-bit alphabet and in UCS-2, its parts, and what does not fit (3GPP TS 23.038, 23.040)."""
    from wexicon.core.standards import pdu
    from wexicon.core.standards.charsets import CharsetFault, gsm7_codes, ucs2

    answer = Answer()
    wrong = []
    for char in dict.fromkeys(text):
        try:
            gsm7_codes(char)
        except CharsetFault:
            wrong.append(char)
    if wrong:
        answer.give("septets", None, text="not in the GSM alphabet")
        answer.note(f"not in the GSM alphabet: {' '.join(wrong[:20])}")
        size, alone, each, unit = len(ucs2(text)), pdu.OCTETS, pdu.OCTETS - pdu.HEADER, "octets"
    else:
        size, alone, each, unit = len(gsm7_codes(text)), pdu.SEPTETS, (pdu.OCTETS - pdu.HEADER) * 8 // 7, "septets"
    answer.give(unit, size)
    answer.give("characters", len(text))
    answer.give("alphabet", "UCS-2" if wrong else "GSM 7-bit")
    answer.give("messages", len(pdu.submit("1", text)))
    answer.step(f"one message holds {alone} {unit}, each part of a long one {each}")
    return answer


def message(
    pdu: Annotated[str, Arg("a PDU in hexadecimal, as +CMGR has it")] = "",
    to: Annotated[str, Arg("the number that a text is for")] = "",
    text: Annotated[str, Arg("the text to be sent")] = "",
) -> Answer:
    """Short messages as PDUs, both ways (3GPP TS 23.040): a received one read field by field, a text written."""
    from wexicon.core.standards import pdu as pdus
    from wexicon.core.standards.pdu import fields

    answer = Answer()
    try:
        if pdu:
            found = pdus.read(pdu)
            answer.table(("field", "octets", "says"), fields(pdu))
            for name in ("number", "stamp", "text", "status"):
                if value := getattr(found, name):
                    answer.give(name, value)
            answer.give("part", f"{found.part} of {found.parts}")
            if found.parts > 1:
                answer.give("reference", found.reference)
            answer.give("length for +CMGS", pdus.length(pdu))
        elif to and text:
            made = pdus.submit(to, text)
            answer.table(
                ("part", "length for +CMGS", "PDU"),
                [(str(at), str(pdus.length(one)), one) for at, one in enumerate(made, 1)],
            )
        else:
            raise CalcFault("message needs a pdu, or to and text", "For example: to=+441632960123 text='level 1.2 m'")
    except (pdus.PduFault, ValueError) as fault:
        raise fault if isinstance(fault, CalcFault) else CalcFault(str(fault)) from None
    return answer


def address(
    value: Annotated[str, Arg("an address of 4, 6 or 8 bytes, in any writing")],
) -> Answer:
    """An address in its usual writings: with colons, bare, in groups of three, in the other byte order, as a number."""
    import re

    digits = re.sub("[^0-9A-Fa-f]", "", value.removeprefix("0x"))
    if len(digits) not in (8, 12, 16) or re.search("[^0-9A-Fa-f:.,\\- ]", value.removeprefix("0x")):
        raise CalcFault(
            f"value: {visible(value)[:40]!r} is not 8, 12 or 16 hexadecimal digits", "For example: 02:A1:5C:00:13:F7"
        )
    answer, data = Answer(), bytes.fromhex(digits)
    answer.give("with colons", data.hex(":").upper())
    answer.give("bare", data.hex().upper())
    answer.give("reversed", data[::-1].hex(":").upper())
    if len(data) == 6:
        bare = data.hex().upper()
        answer.give("2, 2 and 3 bytes", f"{bare[:4]}:{bare[4:6]}:{bare[6:]}")
        answer.give("kind", "group" if data[0] & 1 else "local" if data[0] & 2 else "assigned by a registry (OUI)")
    answer.give("number", str(int.from_bytes(data, "big")))
    return answer


TOPICS = (
    Topic(
        "check",
        "frames and text",
        check,
        ("kind=crc-16/modbus hex=01030000000a", "text=123456789", "kind=xor text=GPGLL,,,,,,V,N"),
    ),
    Topic("find", "frames and text", find, ("hex=01030000000ac5cd", "text='$GPGLL,,,,,,V,N*64'")),
    Topic("text", "frames and text", text_length, ("text='Pegel 1,2 m über Null'",)),
    Topic(
        "message",
        "frames and text",
        message,
        ("to=+441632960123 text='level 1.2 m'", "pdu=0001000C9144612369103200000BECB2BDCC06C55C32501B"),
    ),
    Topic("address", "frames and text", address, ("value=02:A1:5C:00:13:F7",)),
)
