"""Character sets of text in messages: the GSM 7-bit default alphabet and UCS-2 (3GPP TS 23.038, 6.2).

The rule: text that the alphabet cannot carry is refused, never replaced.
"""

from __future__ import annotations

# 3GPP TS 23.038, 6.2.1: the default alphabet; its place is its code. 0x1B leads to the extension table (6.2.1.1).
ALPHABET = (
    "@£$¥èéùìòÇ\nØø\rÅåΔ_ΦΓΛΩΠΨΣΘΞ\x1bÆæßÉ"
    " !\"#¤%&'()*+,-./0123456789:;<=>?"
    "¡ABCDEFGHIJKLMNOPQRSTUVWXYZÄÖÑÜ§"
    "¿abcdefghijklmnopqrstuvwxyzäöñüà"
)
EXTENSION = {
    "\f": 0x0A,
    "^": 0x14,
    "{": 0x28,
    "}": 0x29,
    "\\": 0x2F,
    "[": 0x3C,
    "~": 0x3D,
    "]": 0x3E,
    "|": 0x40,
    "€": 0x65,
}
ESCAPE = 0x1B
_CODES = {char: code for code, char in enumerate(ALPHABET) if code != ESCAPE}
_EXTENDED = {code: char for char, code in EXTENSION.items()}


class CharsetFault(ValueError):
    """Text or codes that the character set does not have."""


def gsm7_codes(text: str) -> bytes:
    """The septets of the text, one in each byte, unpacked."""
    codes = bytearray()
    for char in text:
        if char in _CODES:
            codes.append(_CODES[char])
        elif char in EXTENSION:
            codes += bytes((ESCAPE, EXTENSION[char]))
        else:
            raise CharsetFault(f"{char!r} is not in the GSM 7-bit alphabet; UCS-2 has it")
    return bytes(codes)


def gsm7_text(codes: bytes) -> str:
    """The text of unpacked septets. An escape that leads to nothing is a space (6.2.1.1)."""
    text = ""
    escaped = False
    for code in codes:
        if escaped:
            text += _EXTENDED.get(code, ALPHABET[code & 0x7F])
            escaped = False
        elif code == ESCAPE:
            escaped = True
        else:
            text += ALPHABET[code & 0x7F]
    return text + (" " if escaped else "")


def pack(codes: bytes, fill_bits: int = 0) -> bytes:
    """Septets packed into octets, least significant bit first (6.1.2.1.1), after `fill_bits` bits of nothing."""
    value, size = 0, fill_bits
    for code in codes:
        value |= (code & 0x7F) << size
        size += 7
    return value.to_bytes((size + 7) // 8, "little")


def unpack(octets: bytes, count: int, fill_bits: int = 0) -> bytes:
    """`count` septets out of packed octets."""
    value = int.from_bytes(octets, "little") >> fill_bits
    if count * 7 + fill_bits > len(octets) * 8:
        raise CharsetFault(f"{count} septets do not fit into {len(octets)} octets")
    return bytes((value >> (7 * at)) & 0x7F for at in range(count))


def packed_anywhere(text: str) -> list[bytes]:
    """The octets that the text's septets fill whole, for each place at which it may stand among others."""
    codes = gsm7_codes(text)
    made = []
    for shift in range(8):
        octets = pack(codes, shift)
        made.append(octets[1 if shift else 0 : (shift + 7 * len(codes)) // 8])
    return made


def gsm7_hex(text: str) -> str:
    """Packed septets in hexadecimal, where nothing reports how many there are: seven bits left over at the end are filled with
    a CR, which is removed again (23.038, 6.1.2.3.1)."""
    codes = gsm7_codes(text)
    return pack(codes + b"\r" * (len(codes) % 8 == 7)).hex().upper()


def gsm7_from_hex(digits: str) -> str:
    """The reverse of `gsm7_hex`."""
    octets = bytes.fromhex(digits)
    codes = unpack(octets, len(octets) * 8 // 7)
    if len(codes) % 8 == 0 and codes[-1:] == b"\r":
        codes = codes[:-1]
    return gsm7_text(codes)


def ucs2(text: str) -> bytes:
    """The text in UCS-2, most significant octet first (6.2.3)."""
    if bad := next((char for char in text if ord(char) > 0xFFFF or 0xD800 <= ord(char) <= 0xDFFF), ""):
        raise CharsetFault(f"{bad!r} is in no character set of messages: neither the GSM alphabet nor UCS-2 has it")
    return text.encode("utf-16-be")


def ucs2_text(octets: bytes) -> str:
    """The text of UCS-2 octets."""
    try:
        return octets.decode("utf-16-be")
    except UnicodeDecodeError:
        raise CharsetFault("these octets are not UCS-2") from None
