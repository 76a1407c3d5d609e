"""A trace in the formats of other programs: CSV, plain text, and packets for packet viewers.

The rule: times are those of the trace; what was sent and received is there byte for byte.
"""

from __future__ import annotations

import csv
import io
import struct
from collections.abc import Callable, Iterable, Iterator
from datetime import UTC, datetime

from wexicon.core.text import to_bytes
from wexicon.records.csv_file import inert
from wexicon.records.trace import Record, What
from wexicon.version import __version__

COLUMNS = ("at", "wall", "party", "what", "text", "role", "name", "values", "note")
# Block types, options and flags of the pcapng capture file format (IETF draft, opsawg-pcapng), from memory; another reader
# judges what is made.
SECTION, INTERFACE, PACKET = 0x0A0D0D0A, 1, 6
BYTE_ORDER, VERSION, UNKNOWN_LENGTH = 0x1A2B3C4D, (1, 0), -1
END_OF_OPTIONS, COMMENT, NAME, RESOLUTION, FLAGS = 0, 1, 2, 9, 2
# The first of the link types for one's own use (LINKTYPE_USER0): bytes as they were on the wire.
USER_LINK, MICROSECONDS = 147, 6
INBOUND, OUTBOUND = 1, 2
LARGEST = 262_144


def as_csv(records: Iterable[Record]) -> Iterator[str]:
    """The lines of a CSV file; text is escaped as `trace show` does, and no cell is taken for a formula."""
    yield _row(COLUMNS)
    began: datetime | None = None
    for one in records:
        began = began or one.wall
        wall = (
            datetime.fromtimestamp(began.timestamp() + one.at, UTC).isoformat(timespec="milliseconds") if began else ""
        )
        values = " ".join(f"{name}={value}" for name, value in one.values.items())
        cells = (f"{one.at:.6f}", wall, one.party, one.what, one.content, one.role or "", one.name, values, one.note)
        yield _row([inert(str(cell)) for cell in cells])


def _row(cells: Iterable[str]) -> str:
    line = io.StringIO()
    csv.writer(line, lineterminator="\n").writerow(cells)
    return line.getvalue()


def as_packets(records: Iterable[Record], end: Callable[[str], str]) -> Iterator[bytes]:
    """The blocks of a pcapng file: a packet for each thing said or heard, with its direction; each party is an interface of its
    own. `end` gives the line end that a party's lines had."""
    yield _block(
        SECTION,
        struct.pack("<IHHq", BYTE_ORDER, *VERSION, UNKNOWN_LENGTH) + _options((COMMENT, f"Wexicon {__version__}")),
    )
    began = 0.0
    interfaces: dict[str, int] = {}
    for one in records:
        if one.wall:
            began = one.wall.timestamp()
        if one.what not in (What.SAID, What.HEARD):
            continue
        if one.party not in interfaces:
            interfaces[one.party] = len(interfaces)
            head = struct.pack("<HHI", USER_LINK, 0, LARGEST)
            yield _block(INTERFACE, head + _options((NAME, one.party or "module"), (RESOLUTION, bytes([MICROSECONDS]))))
        data = to_bytes(one.content) + (b"" if one.exact else end(one.party).encode())
        at = round((began + one.at) * 1_000_000)
        kept = data[:LARGEST]
        head = struct.pack("<IIIII", interfaces[one.party], at >> 32, at & 0xFFFFFFFF, len(kept), len(data))
        way = OUTBOUND if one.what is What.SAID else INBOUND
        yield _block(PACKET, head + _padded(kept) + _options((FLAGS, struct.pack("<I", way))))


def _options(*options: tuple[int, str | bytes]) -> bytes:
    made = b""
    for code, value in options:
        data = value.encode() if isinstance(value, str) else value
        made += struct.pack("<HH", code, len(data)) + _padded(data)
    return made + struct.pack("<HH", END_OF_OPTIONS, 0)


def _padded(data: bytes) -> bytes:
    """Filled up to whole words of 32 bits."""
    return data + bytes(-len(data) % 4)


def _block(kind: int, body: bytes) -> bytes:
    whole = struct.pack("<I", len(body) + 12)
    return struct.pack("<I", kind) + whole + body + whole
