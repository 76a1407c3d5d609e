"""Blocks of packed bits: several settings in the bytes of one answer.

The rule: what no setting stands for is left as it was read; the checksum is the last byte.
"""

from __future__ import annotations

from collections.abc import Mapping

from wexicon.core.formats.lexicon.model import SettingGroup
from wexicon.core.formats.lexicon.tables import BitField


class BlockFault(ValueError):
    """Bytes that are not such a block."""


def check_sum(kind: str, data: bytes) -> int:
    """The checksum of bytes: `sum` modulo 256, or `xor`."""
    if kind == "sum":
        return sum(data) & 0xFF
    total = 0
    for byte in data:
        total ^= byte
    return total


def take_block(group: SettingGroup, digits: str) -> bytes:
    """The block in hexadecimal digits as bytes, its length, checksum and fixed bytes checked."""
    try:
        block = bytes.fromhex(digits)
    except ValueError:
        raise BlockFault(f"{digits[:40]!r} is no bytes in hexadecimal") from None
    if len(block) != group.size:
        raise BlockFault(f"the block has {len(block)} bytes, not {group.size}")
    for at, byte in group.fixed.items():
        if block[at] != byte:
            raise BlockFault(f"byte {at} is {block[at]:02X}, not {byte:02X}")
    if group.checksum and block[-1] != check_sum(group.checksum, block[:-1]):
        raise BlockFault(f"the checksum is {block[-1]:02X}, not {check_sum(group.checksum, block[:-1]):02X}")
    return block


def bits_of(block: bytes, place: BitField) -> int:
    """The number that stands at a place."""
    size = (place.bits + place.low + 7) // 8
    whole = int.from_bytes(block[place.byte : place.byte + size], "big")
    return whole >> place.low & ((1 << place.bits) - 1)


def put_bits(group: SettingGroup, block: bytes, numbers: Mapping[str, int], places: Mapping[str, BitField]) -> str:
    """The block with numbers put at their places and its checksum made anew, in hexadecimal digits."""
    made = bytearray(block)
    for at, byte in group.fixed.items():
        made[at] = byte
    for name, number in numbers.items():
        place = places[name]
        if number >> place.bits:
            raise BlockFault(f"{name} = {number} does not fit into {place.bits} bits")
        size = (place.bits + place.low + 7) // 8
        whole = int.from_bytes(made[place.byte : place.byte + size], "big")
        whole &= ~(((1 << place.bits) - 1) << place.low)
        made[place.byte : place.byte + size] = (whole | number << place.low).to_bytes(size, "big")
    if group.checksum:
        made[-1] = check_sum(group.checksum, bytes(made[:-1]))
    return made.hex().upper()
