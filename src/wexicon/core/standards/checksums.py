"""Checks of frames: exclusive or, sums, Fletcher's, and cyclic redundancy checks by name; which of them fits a given frame.

The rule: a cyclic check is its parameters (width, polynomial, start value, reflection, final exclusive or), and `check` is what
it gives for the nine characters 123456789, by which implementations are compared.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator
from functools import cache, reduce
from operator import xor
from typing import NamedTuple
from zlib import crc32


class Crc(NamedTuple):
    """A cyclic check. `reflected`: the least significant bit of each byte comes first, and of the register too."""

    width: int
    polynomial: int
    start: int
    reflected: bool
    final: int
    check: int

    def of(self, data: bytes) -> int:
        """The check of some bytes."""
        if self is CRCS["crc-32"]:
            return crc32(data)
        table, mask, register = _table(self.width, self.polynomial, self.reflected), (1 << self.width) - 1, self.start
        if self.reflected:
            register = _reversed(register, self.width)
            for byte in data:
                register = (register >> 8) ^ table[(register ^ byte) & 0xFF]
        else:
            for byte in data:
                register = ((register << 8) & mask) ^ table[(register >> (self.width - 8)) ^ byte]
        return register ^ self.final


# The usual ones under their usual names; those of standards: SMBus, ITU-T I.432.1, SAE J1850, DVB-S2, EN 13757-4, ITU-T X.25,
# ISO/IEC 13239, ISO 3309, RFC 3720 (iSCSI), IEEE Std 1003.1 (cksum), ISO/IEC 13818-1 (MPEG-2), ISO/IEC 14443-3, ITU-T V.41.
CRCS: dict[str, Crc] = {
    "crc-8": Crc(8, 0x07, 0x00, False, 0x00, 0xF4),
    "crc-8/i-432": Crc(8, 0x07, 0x00, False, 0x55, 0xA1),
    "crc-8/j1850": Crc(8, 0x1D, 0xFF, False, 0xFF, 0x4B),
    "crc-8/autosar": Crc(8, 0x2F, 0xFF, False, 0xFF, 0xDF),
    "crc-8/dvb-s2": Crc(8, 0xD5, 0x00, False, 0x00, 0xBC),
    "crc-8/rohc": Crc(8, 0x07, 0xFF, True, 0x00, 0xD0),
    "crc-8/31-reflected": Crc(8, 0x31, 0x00, True, 0x00, 0xA1),
    "crc-8/wcdma": Crc(8, 0x9B, 0x00, True, 0x00, 0x25),
    "crc-8/ebu": Crc(8, 0x1D, 0xFF, True, 0x00, 0x97),
    "crc-16/arc": Crc(16, 0x8005, 0x0000, True, 0x0000, 0xBB3D),
    "crc-16/modbus": Crc(16, 0x8005, 0xFFFF, True, 0x0000, 0x4B37),
    "crc-16/usb": Crc(16, 0x8005, 0xFFFF, True, 0xFFFF, 0xB4C8),
    "crc-16/umts": Crc(16, 0x8005, 0x0000, False, 0x0000, 0xFEE8),
    "crc-16/xmodem": Crc(16, 0x1021, 0x0000, False, 0x0000, 0x31C3),
    "crc-16/ccitt-false": Crc(16, 0x1021, 0xFFFF, False, 0x0000, 0x29B1),
    "crc-16/aug-ccitt": Crc(16, 0x1021, 0x1D0F, False, 0x0000, 0xE5CC),
    "crc-16/genibus": Crc(16, 0x1021, 0xFFFF, False, 0xFFFF, 0xD64E),
    "crc-16/v-41-lsb": Crc(16, 0x1021, 0x0000, True, 0x0000, 0x2189),
    "crc-16/x-25": Crc(16, 0x1021, 0xFFFF, True, 0xFFFF, 0x906E),
    "crc-16/1021-reflected": Crc(16, 0x1021, 0xFFFF, True, 0x0000, 0x6F91),
    "crc-16/iso-14443-3-a": Crc(16, 0x1021, 0xC6C6, True, 0x0000, 0xBF05),
    "crc-16/dnp": Crc(16, 0x3D65, 0x0000, True, 0xFFFF, 0xEA82),
    "crc-16/en-13757": Crc(16, 0x3D65, 0x0000, False, 0xFFFF, 0xC2B7),
    "crc-16/t10-dif": Crc(16, 0x8BB7, 0x0000, False, 0x0000, 0xD0DB),
    "crc-32": Crc(32, 0x04C11DB7, 0xFFFFFFFF, True, 0xFFFFFFFF, 0xCBF43926),
    "crc-32/bzip2": Crc(32, 0x04C11DB7, 0xFFFFFFFF, False, 0xFFFFFFFF, 0xFC891918),
    "crc-32/mpeg-2": Crc(32, 0x04C11DB7, 0xFFFFFFFF, False, 0x00000000, 0x0376E6E7),
    "crc-32/cksum": Crc(32, 0x04C11DB7, 0x00000000, False, 0xFFFFFFFF, 0x765E7680),
    "crc-32/jamcrc": Crc(32, 0x04C11DB7, 0xFFFFFFFF, True, 0x00000000, 0x340BC6D9),
    "crc-32/iscsi": Crc(32, 0x1EDC6F41, 0xFFFFFFFF, True, 0xFFFFFFFF, 0xE3069283),
}


def _reversed(value: int, width: int) -> int:
    return int(f"{value:0{width}b}"[::-1], 2)


@cache
def _table(width: int, polynomial: int, reflected: bool) -> tuple[int, ...]:
    """What each byte does to the register."""
    mask, top = (1 << width) - 1, 1 << (width - 1)
    made = []
    if reflected:
        backwards = _reversed(polynomial, width)
        for byte in range(256):
            register = byte
            for _ in range(8):
                register = (register >> 1) ^ (backwards if register & 1 else 0)
            made.append(register)
    else:
        for byte in range(256):
            register = byte << (width - 8)
            for _ in range(8):
                register = ((register << 1) ^ (polynomial if register & top else 0)) & mask
            made.append(register)
    return tuple(made)


def exclusive_or(data: bytes) -> int:
    """The exclusive or of all bytes (as in a sentence of NMEA 0183)."""
    return reduce(xor, data, 0)


def sum_8(data: bytes) -> int:
    """The sum of all bytes, modulo 256."""
    return sum(data) & 0xFF


def negative_sum_8(data: bytes) -> int:
    """What makes the sum of all bytes and itself 0 modulo 256: the two's complement of the sum."""
    return -sum(data) & 0xFF


def fletcher_8(data: bytes) -> int:
    """Two running sums of bytes modulo 256, the second in the high byte: a variant of Fletcher's checksum that binary protocols
    of receivers use."""
    low = high = 0
    for byte in data:
        low = (low + byte) & 0xFF
        high = (high + low) & 0xFF
    return high << 8 | low


def fletcher_16(data: bytes) -> int:
    """Fletcher's checksum of bytes: two running sums modulo 255, the second in the high byte (Fletcher, 1982)."""
    low = high = 0
    for byte in data:
        low = (low + byte) % 255
        high = (high + low) % 255
    return high << 8 | low


def fletcher_32(data: bytes) -> int:
    """Fletcher's checksum of 16-bit words, low byte first: two running sums modulo 65535; an odd byte is padded with zero."""
    low = high = 0
    for at in range(0, len(data), 2):
        low = (low + int.from_bytes(data[at : at + 2], "little")) % 65_535
        high = (high + low) % 65_535
    return high << 16 | low


# All checks by name, with their width in bits.
CHECKS: dict[str, tuple[int, Callable[[bytes], int]]] = {
    "xor": (8, exclusive_or),
    "sum": (8, sum_8),
    "negative-sum": (8, negative_sum_8),
    "fletcher-8": (16, fletcher_8),
    "fletcher-16": (16, fletcher_16),
    "fletcher-32": (32, fletcher_32),
    **{name: (crc.width, crc.of) for name, crc in CRCS.items()},
}


class FittingCheck(NamedTuple):
    """A check that fits a frame: its name, the order of its bytes (`high first`, `low first`, or empty if it is one byte), and
    how many bytes at the beginning of the frame are not checked."""

    check: str
    order: str
    skipped: int


def find(frame: bytes, most_skipped: int = 4) -> Iterator[FittingCheck]:
    """The checks that fit a frame whose last bytes are its check, as bytes or as hexadecimal digits is for the caller to tell.
    Bytes at the beginning, such as a start mark, may be left out of the check."""
    for name, (width, function) in CHECKS.items():
        size = width // 8
        for skipped in range(most_skipped + 1):
            body, given = frame[skipped:-size], frame[-size:]
            if len(frame) < skipped + size + 1:
                break
            value = function(body)
            if value == int.from_bytes(given, "big"):
                yield FittingCheck(name, "high first" if size > 1 else "", skipped)
            elif value == int.from_bytes(given, "little"):
                yield FittingCheck(name, "low first", skipped)
