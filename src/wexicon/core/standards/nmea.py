"""Sentences of NMEA 0183 (IEC 61162-1) as values: talker, kind, fields by name.

The rule: field names and order are those of NMEA 0183, 6.3; an empty field is a field that is not known, never zero.
"""

from __future__ import annotations

import re
from decimal import Decimal
from functools import reduce
from operator import xor

import msgspec

from wexicon.core.text import to_bytes

TALKERS = {
    "GP": "GPS",
    "GL": "GLONASS",
    "GA": "Galileo",
    "GB": "BeiDou",
    "BD": "BeiDou",
    "GQ": "QZSS",
    "QZ": "QZSS",
    "GI": "NavIC",
    "GN": "several systems",
}
FIELDS = {
    "GGA": "time latitude ns longitude ew quality satellites hdop altitude altitude_unit geoid geoid_unit age station",
    "GLL": "latitude ns longitude ew time status mode",
    "GNS": "time latitude ns longitude ew mode satellites hdop altitude geoid age station status",
    "GSA": "selection fix " + " ".join(f"satellite{n}" for n in range(1, 13)) + " pdop hdop vdop system",
    "GST": "time rms major minor orientation latitude_error longitude_error altitude_error",
    "GSV": "sentences sentence in_view "
    + " ".join(f"id{n} elevation{n} azimuth{n} signal{n}" for n in range(1, 5))
    + " band",
    "RMC": "time status latitude ns longitude ew knots course date variation variation_ew mode",
    "TXT": "sentences sentence kind text",
    "VTG": "course course_true course_magnetic magnetic knots knots_unit kmh kmh_unit mode",
    "ZDA": "time day month year zone_hours zone_minutes",
}


_NAMES = {kind: names.split() for kind, names in FIELDS.items()}


class SentenceFault(ValueError):
    """A line that is no sentence, or whose checksum is wrong."""


class Sentence(msgspec.Struct, frozen=True):
    """One sentence: `talker` (two letters; P for a maker's own), `kind`, its fields in order."""

    talker: str
    kind: str
    fields: tuple[str, ...]

    def named(self) -> dict[str, str]:
        """The fields by name, as far as the kind is known."""
        return dict(zip(_NAMES.get(self.kind, ()), self.fields, strict=False))


def checksum(body: bytes) -> int:
    """The checksum of a sentence: the exclusive or of the bytes between `$` or `!` and `*` (NMEA 0183, 5.3.3.2)."""
    return reduce(xor, body, 0)


def with_checksum(text: str) -> str:
    """A sentence with the checksum that it lacks (NMEA 0183, 5.3.1); anything else as it is."""
    if text[:1] not in ("$", "!") or "*" in text:
        return text
    return f"{text}*{checksum(to_bytes(text[1:])):02X}"


def parse(line: str, *, checked: bool = False) -> Sentence:
    """A line as a sentence (NMEA 0183, 5.3); `checked` if its checksum was looked at before. Raises SentenceFault."""
    body, star, digits = line.strip().rpartition("*")
    if not star or body[:1] not in ("$", "!"):
        raise SentenceFault("not a sentence: it begins with $ or ! and ends with * and a checksum")
    if not checked and digits.upper() != (wanted := f"{checksum(to_bytes(body[1:])):02X}"):
        raise SentenceFault(f"the checksum is {digits}, and should be {wanted}")
    address, *fields = body[1:].split(",")
    if address.startswith("P"):
        return Sentence("P", address[1:], tuple(fields))
    return Sentence(address[:2], address[2:], tuple(fields))


def degrees(angle: str, side: str) -> Decimal:
    """Degrees, with decimals, of an angle written as degrees and minutes (ddmm.mm, dddmm.mm) and N, S, E or W."""
    if not re.fullmatch(r"[0-9]{1,8}(\.[0-9]{1,12})?", angle):
        raise SentenceFault(f"{angle!r} is not an angle")
    number = Decimal(angle)
    whole = int(number // 100)
    found = (whole + (number - 100 * whole) / 60).quantize(Decimal("0.0000001"))
    if side not in ("N", "S", "E", "W") or not 0 <= found <= (90 if side in "NS" else 180):
        raise SentenceFault(f"{angle} {side} is not an angle")
    return -found if side in ("S", "W") else found
