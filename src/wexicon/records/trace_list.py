"""Traces as files: which there are, which one a name means, exports (CSV, text, packets for packet viewers), two compared.

The rule: of each trace only its beginning and its end are read for a list; one that is cut off or still grows is listed too.
Times and bytes of an export are those of the trace. Two traces are aligned by the lines sent, in time in proportion to their
length; where they part, the nearest place at which two exchanges in a row agree again is looked for.
"""

from __future__ import annotations

import re
import struct
from collections.abc import Callable, Iterable, Iterator, Sequence
from datetime import UTC, datetime
from enum import StrEnum
from pathlib import Path

import msgspec

from wexicon.core.faults import CallFault
from wexicon.core.protocol.recorded import RecordedExchange
from wexicon.core.text import in_file_names, to_bytes
from wexicon.files import open_regular
from wexicon.records.exports import csv_lines
from wexicon.records.trace import Record, What
from wexicon.version import __version__

# How much of the end of a trace is read: the last records are there.
TAIL = 16_384
# A dated trace: when it began, and what it is of.
_DATED = re.compile(r"\d{4}-\d\d-\d\d-\d{6}-\d{6}-(.+)")


class TraceInfo(msgspec.Struct):
    """One trace: its file, when it began (UTC), the port, what it is of (by its file's name), the unit, what was done and its
    verdict, and how long it is (seconds). `open`: it has no end: it still grows, or was cut off."""

    path: str
    when: datetime | None = None
    port: str = ""
    title: str = ""
    unit: str = ""
    work: str = ""
    verdict: str = ""
    seconds: float = 0.0
    open: bool = True


def read_info(path: Path) -> TraceInfo | None:
    """What a trace is, from its beginning and its end; None if it is none."""
    decoder = msgspec.json.Decoder(Record)
    dated = _DATED.fullmatch(path.stem)
    try:
        with open_regular(path) as file:
            first = decoder.decode(file.readline())
            if first.what is not What.OPENED:
                return None
            size = path.stat().st_size
            file.seek(max(0, size - TAIL))
            lines = file.read().split(b"\n")
    except (OSError, msgspec.DecodeError, UnicodeDecodeError, CallFault):
        return None
    info = TraceInfo(str(path), first.wall, first.link, dated[1] if dated else path.stem)
    for line in lines:
        try:
            one = decoder.decode(line)
        except (msgspec.DecodeError, UnicodeDecodeError):
            # The first line may be cut, the last one too.
            continue
        info.seconds = max(info.seconds, one.at)
        if one.what is What.FINISHED:
            info.work, info.unit, info.verdict = one.text, one.name or info.unit, one.outcome
        elif one.what is What.CLOSED:
            info.open = False
    return info


def all_traces(folder: Path) -> Iterator[TraceInfo]:
    """The traces of a folder, the newest first."""
    if folder.is_dir():
        for path in sorted(folder.glob("*.jsonl"), reverse=True):
            if (info := read_info(path)) is not None:
                yield info


def find_trace(name: str, folder: Path) -> Path:
    """The trace that a name means: a file; `last`; or the newest one of a unit (its identity, or its name in a sheet), of a
    port, or of what was done. Raises CallFault."""
    path = Path(name)
    if path.exists() or path.suffix == ".jsonl":
        return path
    for info in all_traces(folder):
        own = (info.unit, info.unit.partition(" ")[2], info.port, info.title)
        if name == "last" or name in own or in_file_names(name) == info.title:
            return Path(info.path)
    hint = "`wexicon trace list` shows all; a name is a unit, a port, what was done, or `last`."
    raise CallFault(f"there is no trace of {name}", hint=hint)


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
# A trace was recorded in one of these years.
YEARS = (2001, 9000)


def as_csv(records: Iterable[Record]) -> Iterator[str]:
    """The lines of a CSV file; text is escaped as `trace show` does, and no cell is taken for a formula."""
    yield from csv_lines(COLUMNS, _cells(records))


def _cells(records: Iterable[Record]) -> Iterator[list[str]]:
    began: float | None = None
    for one in records:
        began = began or (_seconds(one.wall) if one.wall else None)
        wall = datetime.fromtimestamp(began + one.at, UTC).isoformat(timespec="milliseconds") if began else ""
        values = " ".join(f"{name}={value}" for name, value in one.values.items())
        yield [f"{one.at:.6f}", wall, one.party, one.what, one.content, one.role or "", one.name, values, one.note]


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
            began = _seconds(one.wall)
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


def _seconds(wall: datetime) -> float:
    """A wall time in seconds since 1970. Raises CallFault for one that no computer can have recorded."""
    if not YEARS[0] <= wall.year <= YEARS[1]:
        raise CallFault(f"a record has the time {wall:%Y-%m-%d}, which cannot be right; nothing was written")
    return wall.timestamp()


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


# How far ahead the place is looked for at which two traces agree again (exchanges).
AHEAD = 32
# A time differs if it is longer by this (seconds), and by this factor.
LONGER, TIMES = 0.05, 1.5


class DifferenceKind(StrEnum):
    """How two exchanges differ."""

    SAID = "said differently"
    HEARD = "heard differently"
    ONLY_FIRST = "only in the first"
    ONLY_SECOND = "only in the second"
    ORDER = "in another order"
    TIME = "took longer"


class Difference(msgspec.Struct):
    """One difference. `first` and `second` are the numbers of the exchanges, from 1 (0: there is none); `said` is what was
    said, `a` and `b` the lines that differ, `times` how many seconds the last answer took in each."""

    kind: DifferenceKind
    first: int
    second: int
    said: str
    a: str = ""
    b: str = ""
    times: tuple[float, float] | None = None


class TraceComparison(msgspec.Struct):
    """All differences, the first one first, how many exchanges each trace has and how many are the same in both."""

    first: int
    second: int
    same: int
    differences: list[Difference] = []


Pair = tuple[int | None, int | None]


def compare(a: Sequence[RecordedExchange], b: Sequence[RecordedExchange], *, times: bool = False) -> TraceComparison:
    """Compares two traces; `times`: also how long the answers took."""
    made = TraceComparison(len(a), len(b), 0)
    for first, second in _aligned([_key(one) for one in a], [_key(one) for one in b]):
        if first is None or second is None:
            own, at = (b, second) if first is None else (a, first)
            assert at is not None
            kind = DifferenceKind.ONLY_SECOND if first is None else DifferenceKind.ONLY_FIRST
            made.differences.append(Difference(kind, _number(first), _number(second), own[at].said or ""))
            continue
        found = _difference(a[first], b[second], first, second, times)
        if found:
            made.differences.append(found)
        else:
            made.same += 1
    _mark_order(made.differences)
    return made


def _key(one: RecordedExchange) -> tuple[str | None, bool]:
    return one.said, one.exact


def _number(at: int | None) -> int:
    return 0 if at is None else at + 1


def _aligned(a: Sequence[object], b: Sequence[object]) -> list[Pair]:
    """Pairs of places that belong together; None where one trace has nothing for the other's."""
    pairs: list[Pair] = []
    i = j = 0
    while i < len(a) and j < len(b):
        if a[i] == b[j]:
            pairs.append((i, j))
            i, j = i + 1, j + 1
            continue
        skip, other = _agree_again(a, b, i, j)
        together = min(skip, other)
        pairs += [(i + step, j + step) for step in range(together)]
        pairs += [(i + step, None) for step in range(together, skip)]
        pairs += [(None, j + step) for step in range(together, other)]
        i, j = i + skip, j + other
    pairs += [(at, None) for at in range(i, len(a))]
    pairs += [(None, at) for at in range(j, len(b))]
    return pairs


def _agree_again(a: Sequence[object], b: Sequence[object], i: int, j: int) -> tuple[int, int]:
    """How many of each to step over until they agree again; one of each where that is too far away."""
    for far in range(1, AHEAD):
        for skip in range(far + 1):
            x, y = i + skip, j + far - skip
            if x >= len(a) or y >= len(b) or a[x] != b[y]:
                continue
            after_x, after_y = x + 1, y + 1
            ends = after_x >= len(a) or after_y >= len(b)
            if ends or a[after_x] == b[after_y]:
                return skip, far - skip
    return 1, 1


def _difference(a: RecordedExchange, b: RecordedExchange, first: int, second: int, times: bool) -> Difference | None:
    """How two exchanges that belong together differ; None if they do not."""
    one, two = _number(first), _number(second)
    if _key(a) != _key(b):
        return Difference(DifferenceKind.SAID, one, two, a.said or "", a.said or "", b.said or "")
    heard = [text for _, text, _ in a.heard], [text for _, text, _ in b.heard]
    if heard[0] != heard[1]:
        at = next((at for at, (x, y) in enumerate(zip(*heard, strict=False)) if x != y), min(map(len, heard)))
        x, y = (texts[at] if at < len(texts) else "" for texts in heard)
        return Difference(DifferenceKind.HEARD, one, two, a.said or "", x, y)
    took = (a.heard[-1][0] if a.heard else 0.0, b.heard[-1][0] if b.heard else 0.0)
    short, long = sorted(took)
    if times and long > short + LONGER and long > TIMES * short:
        return Difference(DifferenceKind.TIME, one, two, a.said or "", times=took)
    return None


def _mark_order(differences: list[Difference]) -> None:
    """What is missing here and there too much elsewhere was said in another order."""
    spare: dict[str, list[Difference]] = {}
    for one in differences:
        if one.kind is DifferenceKind.ONLY_SECOND:
            spare.setdefault(one.said, []).append(one)
    for one in list(differences):
        if one.kind is DifferenceKind.ONLY_FIRST and spare.get(one.said):
            other = spare[one.said].pop(0)
            one.kind, one.second = DifferenceKind.ORDER, other.second
            differences.remove(other)
    # Where several are exchanged with each other, each stands opposite to another one.
    opposite: dict[str, list[Difference]] = {}
    for one in differences:
        if one.kind is DifferenceKind.SAID:
            opposite.setdefault(one.b, []).append(one)
    moved = [
        (one, opposite[one.a].pop(0).second)
        for one in differences
        if one.kind is DifferenceKind.SAID and opposite.get(one.a)
    ]
    for one, second in moved:
        one.kind, one.second, one.a, one.b = DifferenceKind.ORDER, second, "", ""


def apart(a: str, b: str) -> int:
    """The first place at which two texts differ."""
    return next((at for at, (x, y) in enumerate(zip(a, b, strict=False)) if x != y), min(len(a), len(b)))
