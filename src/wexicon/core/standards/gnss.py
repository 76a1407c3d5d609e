"""Sentences of NMEA 0183 (IEC 61162-1) as values: talker, kind, fields by name; and what they say of position and satellites.

The rule: field names and order are those of NMEA 0183, 6.3; an empty field is not known, never zero, and a value that is out
of its range is no value. Codes and their words were written from memory, not checked against the text of the standard.
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


# Kinds that report a position, the one that says most of it first.
POSITIONS = ("GGA", "GNS", "RMC", "GLL")
# Quality of a fix in GGA (NMEA 0183, 6.3).
QUALITIES = {
    "0": "no fix",
    "1": "fix",
    "2": "differential fix",
    "3": "precise fix",
    "4": "RTK fix",
    "5": "RTK float",
    "6": "estimated",
    "7": "entered by hand",
    "8": "simulated",
}
DIMENSIONS = {"1": "no fix", "2": "2D fix", "3": "3D fix"}
# System identifier of GSA (NMEA 0183, version 4.1).
SYSTEMS = {"1": "GPS", "2": "GLONASS", "3": "Galileo", "4": "BeiDou", "5": "QZSS", "6": "NavIC"}
_UNITS = {
    "altitude": " m",
    "geoid": " m",
    "knots": " kn",
    "kmh": " km/h",
    "course": "°",
    "magnetic": "°",
    "rms": " m",
    "major": " m",
    "minor": " m",
    "age": " s",
}
# Told with another field, or nothing that a person reads.
_SILENT = frozenset(
    ("ns", "ew", "altitude_unit", "geoid_unit", "knots_unit", "kmh_unit", "course_true", "course_magnetic")
)
# Mode indicator of RMC, VTG, GLL (NMEA 0183, version 2.3).
MODES = {
    "A": "autonomous",
    "D": "differential",
    "E": "estimated",
    "F": "RTK float",
    "M": "entered by hand",
    "N": "not valid",
    "P": "precise",
    "R": "RTK fixed",
    "S": "simulated",
}
_WORDS = {
    "quality": QUALITIES,
    "fix": DIMENSIONS,
    "status": {"A": "valid", "V": "not valid"},
    "system": SYSTEMS,
    "selection": {"A": "automatic", "M": "by hand"},
    "mode": MODES,
}
_TIME = re.compile(r"([01][0-9]|2[0-3])([0-5][0-9])([0-6][0-9])(\.[0-9]+)?")
_ANGLE = re.compile(r"([0-9]{1,3})([0-5][0-9](?:\.[0-9]+)?)")
_NUMBER = re.compile(r"-?[0-9]{1,7}(?:\.[0-9]{1,6})?")


class Fix(msgspec.Struct, frozen=True, gc=False):
    """One report of a position: degrees, south and west negative, and metres above the sea. `there` is whether there is a
    fix at all; what the sentence does not tell is None."""

    there: bool
    latitude: float | None = None
    longitude: float | None = None
    altitude: float | None = None
    satellites: int | None = None
    hdop: float | None = None


class InView(msgspec.Struct, frozen=True, gc=False):
    """One satellite of GSV: its system, its number, elevation and azimuth in degrees, C/N0 in dB-Hz; None where not known."""

    system: str
    number: int
    elevation: float | None
    azimuth: float | None
    signal: float | None


def angle(text: str, side: str) -> float | None:
    """Degrees of `ddmm.mmmm` and N, S, E or W; None if that is no angle."""
    found = _ANGLE.fullmatch(text)
    if not found or side not in ("N", "S", "E", "W"):
        return None
    value = int(found[1]) + float(found[2]) / 60
    if value > (90 if side in "NS" else 180):
        return None
    return -value if side in "SW" else value


def number(text: str) -> float | None:
    """A number; None if the text is none."""
    if len(text) < 4 and text.isascii() and text.isdigit():
        # Most are short.
        return float(text)
    return float(text) if _NUMBER.fullmatch(text) else None


def fix_of(sentence: Sentence) -> Fix | None:
    """What a sentence says of the position; None if it says nothing of it."""
    fields, kind = sentence.fields, sentence.kind
    at = {"GGA": 1, "GNS": 1, "RMC": 2, "GLL": 0}.get(kind)
    if at is None or len(fields) < at + 4:
        return None
    there = {
        "GGA": lambda: len(fields) > 5 and fields[5] not in ("", "0"),
        "GNS": lambda: bool(set(fields[5]) - {"N"}) if len(fields) > 5 else False,
        "RMC": lambda: fields[1] == "A",
        "GLL": lambda: len(fields) > 5 and fields[5] == "A",
    }[kind]()
    latitude, longitude = angle(fields[at], fields[at + 1]), angle(fields[at + 2], fields[at + 3])
    if not there or latitude is None or longitude is None:
        return Fix(False)
    if kind not in ("GGA", "GNS"):
        return Fix(True, latitude, longitude)
    used, hdop, altitude = (number(one) for one in (*fields[6:9], "", "", "")[:3])
    return Fix(True, latitude, longitude, altitude, int(used) if used is not None and used >= 0 else None, hdop)


def views_of(sentence: Sentence) -> list[InView]:
    """The satellites of a GSV sentence; none of another."""
    if sentence.kind != "GSV":
        return []
    system, found, fields = TALKERS.get(sentence.talker, sentence.talker), [], sentence.fields
    for at in range(3, len(fields) - 3, 4):
        name = fields[at]
        if name.isascii() and name.isdigit() and len(name) < 4:
            elevation, azimuth, signal = number(fields[at + 1]), number(fields[at + 2]), number(fields[at + 3])
            high = elevation if elevation is not None and elevation <= 90 else None
            found.append(InView(system, int(name), high, azimuth, signal))
    return found


def used_of(sentence: Sentence) -> tuple[str, list[int]] | None:
    """The system and the satellites in use of a GSA sentence; None of another."""
    if sentence.kind != "GSA" or len(sentence.fields) < 14:
        return None
    system = SYSTEMS.get(sentence.fields[17], "") if len(sentence.fields) > 17 else ""
    if not system and sentence.talker != "GN":
        system = TALKERS.get(sentence.talker, sentence.talker)
    return system, [int(one) for one in sentence.fields[2:14] if one.isascii() and one.isdigit() and len(one) < 4]


def in_words(sentence: Sentence) -> dict[str, str]:
    """The fields by name, as a person reads them."""
    told: dict[str, str] = {}
    if sentence.talker in TALKERS and sentence.talker != "GN":
        told["system"] = TALKERS[sentence.talker]
    if sentence.kind == "GSV":
        return _of_views(sentence, told)
    named = sentence.named()
    if used := used_of(sentence):
        for at in range(1, 13):
            named.pop(f"satellite{at}", None)
    for name, text in named.items():
        if not text or name in _SILENT:
            continue
        if name in ("latitude", "longitude"):
            side = named.get("ns" if name == "latitude" else "ew", "")
            value = angle(text, side)
            told[name] = f"{abs(value):.6f}° {side}" if value is not None else text
        elif name == "time" and (found := _TIME.fullmatch(text)):
            told[name] = f"{found[1]}:{found[2]}:{found[3]}{found[4] or ''}"
        elif name == "date" and len(text) == 6:
            told[name] = f"20{text[4:]}-{text[2:4]}-{text[:2]}"
        elif name in _WORDS:
            told[name] = _WORDS[name].get(text, text)
        elif name in _UNITS and number(text) is not None:
            told[name] = text + _UNITS[name]
        else:
            told[name] = text
    if used:
        told["used"] = " ".join(f"{one:02d}" for one in used[1]) or "none"
    return told


def _of_views(sentence: Sentence, told: dict[str, str]) -> dict[str, str]:
    """GSV: each satellite with its signal, instead of four fields."""
    fields = sentence.fields
    if len(fields) > 2:
        told["in view"] = fields[2]
    for at in range(3, len(fields) - 3, 4):
        told[fields[at]] = f"{fields[at + 3]} dB-Hz" if fields[at + 3] else "not heard"
    return told
