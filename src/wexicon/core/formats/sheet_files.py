"""What a sheet brings to a module from elsewhere: the firmware image of a seat, blocks of packed bits, and secrets from the
environment, a file, a prompt, or drawn for each unit.

The rule: an image is loaded only if the module says of itself something else than the sheet does; after the load it must say
that. In a block, what no setting stands for is left as it was read; the checksum is its last byte. A secret is never in the
sheet itself; `generate = "6 digits"` says how many of which characters are drawn.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping

import msgspec

from wexicon.core.faults import Fault
from wexicon.core.formats.lexicon import Action, Lexicon, SettingGroup
from wexicon.core.formats.lexicon.tables import BitField
from wexicon.core.formats.toml import Source
from wexicon.core.text import meant, visible


class ImageTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`image = { ... }` of a seat: the `file` of a firmware image beside the sheet, and what a module that has it says of
    itself: its `identity`, as `{ firmware = "0C10" }`."""

    file: str
    identity: dict[str, str]


class Image(msgspec.Struct, frozen=True):
    """An image, read: the whole path of its `file`, the `identity` of a module that has it, the `action` that loads it and the
    `parameter` of that."""

    file: str
    identity: dict[str, str]
    action: str
    parameter: str

    def differs(self, identity: Mapping[str, str]) -> str:
        """What a module with this identity says otherwise; empty if it has the image."""
        told = [
            f"{name} is {visible(identity.get(name, 'not told'))}, and {visible(wanted)} is wanted"
            for name, wanted in self.identity.items()
            if identity.get(name) != wanted
        ]
        return "; ".join(told)


def loading(lexicon: Lexicon) -> tuple[Action, str] | None:
    """The action of a lexicon that loads an image into a module in command mode, and its parameter for the file."""
    for action in lexicon.actions.values():
        if action.loads and action.needs_attention:
            for need in action.program.needs():
                if need.kind == "file":
                    return action, need.name
    return None


def read_image(
    source: Source, here: tuple[str, ...], table: ImageTable, lexicon: Lexicon, located: Callable[[str], str]
) -> Image | None:
    """The image of a seat; what is wrong is complained of to `source`."""
    found = loading(lexicon)
    if found is None:
        source.complain(
            here, f"{lexicon.about.family} has no action that loads an image", "its lexicon says: loads = true"
        )
        return None
    known = [name for phrase in lexicon.identify for want in phrase.expect.wants for name in want.pattern.names]
    for name in table.identity:
        if name not in known:
            source.complain((*here, "identity", name), "the module does not say this of itself", meant(name, known))
    if not table.identity:
        source.complain((*here, "identity"), "is empty: when is another image found?", 'write { firmware = "0C10" }')
    try:
        path = located(table.file)
    except Fault as fault:
        source.complain((*here, "file"), str(fault))
        return None
    return Image(path, table.identity, found[0].name, found[1])


FETCHED = ("env", "file", "prompt")
GENERATED = "generate"
ELSEWHERE = (
    'say where it comes from: {name} = {{ env = "NAME" }}, {{ file = "NAME" }}, {{ prompt = "..." }} '
    'or {{ generate = "6 digits" }}'
)
_TOLD = {
    "env": "from the environment variable {}",
    "file": "from the file {}",
    "prompt": "asked for: {}",
    GENERATED: "{}, drawn for each unit",
}
# The characters are for people who copy them: none that looks like another.
ALPHABETS = {
    "digits": "0123456789",
    "hex": "0123456789ABCDEF",
    "characters": "abcdefghijkmnpqrstuvwxyzABCDEFGHJKLMNPQRSTUVWXYZ23456789",
}
# How many characters a generated secret has, at least and at most.
LEAST, MOST = 4, 128


class Generated(msgspec.Struct, frozen=True):
    """A secret that is drawn for each unit: `count` characters of a `kind` of ALPHABETS."""

    count: int
    kind: str

    def draw(self, choose: Callable[[str], str]) -> str:
        """A new secret; `choose` draws one character of several, each with the same chance."""
        return "".join(choose(ALPHABETS[self.kind]) for _ in range(self.count))


def generated(text: object) -> Generated:
    """What `generate` says, such as `6 digits`. Raises ValueError."""
    count, _, kind = str(text).partition(" ")
    if not count.isdecimal() or not LEAST <= int(count[:9]) <= MOST:
        raise ValueError(f"{text!r} does not begin with a number from {LEAST} to {MOST}, as in 6 digits")
    if kind not in ALPHABETS:
        raise ValueError(f"{kind!r} cannot be generated; {meant(kind, ALPHABETS)}")
    return Generated(int(count), kind)


def source_of(given: object) -> tuple[str, str] | None:
    """The kind and the text of a source, if a value of a sheet is one; such a value is always a secret."""
    if isinstance(given, dict) and len(given) == 1:
        ((kind, text),) = given.items()
        if kind in (*FETCHED, GENERATED):
            return kind, str(text)
    return None


def told(kind: str, text: str) -> str:
    """A source in words."""
    return _TOLD[kind].format(text)


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
