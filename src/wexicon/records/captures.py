"""Captures from elsewhere as what each side sent: VCD (IEEE Std 1364, clause 18) and CSV of a logic analyser, a text log of a
terminal, raw bytes.

The rule: what is in the file is taken as it is; which side a line was, if the file does not say, is told by its first words or
asked for.
"""

from __future__ import annotations

import csv
import io
import re
from collections.abc import Iterator, Mapping, Sequence
from math import isfinite
from typing import NamedTuple

from wexicon.core.faults import CallFault
from wexicon.core.protocol.line_faults import Side
from wexicon.core.standards.waveform import Edge, LineRefused, WaveformReading, read_line
from wexicon.core.text import visible
from wexicon.core.tuning import Tuning

# What a capture or a log may be at most (bytes), and how long it may last (seconds: ten years).
LARGEST = 268_435_456
LONGEST = 315_360_000.0
_SCALE = {"s": 1.0, "ms": 1e-3, "us": 1e-6, "ns": 1e-9, "ps": 1e-12, "fs": 1e-15}
_TIME = re.compile(r"^\s*\[?(?:(\d{1,2}):(\d{2}):(\d{2}(?:[.,]\d+)?)|(\d+(?:[.,]\d+)?)\s*s?)\]?[:,]?\s+")
_MARKS = (
    (re.compile(r"^(?:>>?|->|=>|TX:?|SEND:?|OUT:?|HOST:?|\[TX\])\s?", re.IGNORECASE), Side.HOST),
    (re.compile(r"^(?:<<?|<-|<=|RX:?|RECV:?|IN:?|MODULE:?|\[RX\])\s?", re.IGNORECASE), Side.MODULE),
)


class Sent(NamedTuple):
    """Bytes that a side sent, when they had come (seconds); `wrong` if their frame was."""

    at: float
    side: Side
    data: bytes
    wrong: bool = False


class Capture(NamedTuple):
    """What both sides sent, in order, the tuning of each line that was measured, and what the file does not tell."""

    sent: list[Sent]
    tunings: Mapping[Side, WaveformReading]
    assumed: tuple[str, ...] = ()


def lines_of_vcd(text: str, path: str) -> tuple[dict[str, list[Edge]], float]:
    """The one-bit signals of a VCD file by name, and when it ends (seconds). Raises CallFault."""
    scale, now = 1e-9, 0.0
    names: dict[str, str] = {}
    edges: dict[str, list[Edge]] = {}
    tokens = iter(text.split())
    for token in tokens:
        if token == "$timescale":
            unit = "".join(_until_end(tokens))
            found = re.fullmatch(r"(\d+)\s*([munpf]?s)", unit)
            if not found:
                raise CallFault(f"“{visible(unit[:40])}” is not a timescale", where=path)
            scale = float(found[1]) * _SCALE[found[2]]
        elif token == "$var":
            words = list(_until_end(tokens))
            if len(words) >= 4 and words[1] == "1":
                names[words[2]] = words[3]
                edges[words[3]] = []
        elif token.startswith("$"):
            if token not in ("$end", "$dumpvars", "$dumpall", "$dumpon", "$dumpoff"):
                list(_until_end(tokens))
        elif token.startswith("#"):
            ticks = _number(token[1:]) if token[1:].isdecimal() else None
            if ticks is None or not isfinite(now := ticks * scale):
                raise CallFault(f"“{visible(token[:40])}” is not a time", where=path)
        elif token[0] in "01" and token[1:] in names:
            edges[names[token[1:]]].append((now, int(token[0])))
        elif token[0] in "bBrR":
            next(tokens, "")
    return edges, now


def _until_end(tokens: Iterator[str]) -> Iterator[str]:
    for token in tokens:
        if token == "$end":
            return
        yield token


def lines_of_csv(text: str, path: str) -> tuple[dict[str, list[Edge]], float]:
    """The signals of a CSV file by their headings, the first column being the time in seconds, and when it ends. A row is a
    sample, or a change. Raises CallFault."""
    try:
        rows = list(csv.reader(io.StringIO(text)))
    except csv.Error:
        raise CallFault("it is no CSV file", where=path) from None
    rows = [[cell.strip() for cell in row] for row in rows if row and not row[0].lstrip().startswith((";", "#"))]
    if len(rows) < 2 or len(rows[0]) < 2:
        raise CallFault("it has no columns of time and levels", where=path)
    heads = rows[0] if not _number(rows[0][0]) else [f"line {number}" for number in range(len(rows[0]))]
    edges: dict[str, list[Edge]] = {name: [] for name in heads[1:]}
    now = 0.0
    for number, row in enumerate(rows[1 if heads is rows[0] else 0 :], 2):
        at = _number(row[0])
        if at is None or len(row) < len(heads):
            raise CallFault(f"row {number} has no time and {len(heads) - 1} levels", where=path)
        now = at
        for name, cell in zip(heads[1:], row[1:], strict=False):
            level = _number(cell)
            if level is None:
                raise CallFault(f"row {number}: “{visible(cell[:40])}” is not a level", where=path)
            digital = int(level > 0.5)
            if not edges[name] or edges[name][-1][1] != digital:
                edges[name].append((now, digital))
    return edges, now


def _number(text: str) -> float | None:
    """A finite number; None for anything else."""
    try:
        number = float(text.replace(",", "."))
    except ValueError:
        return None
    return number if isfinite(number) else None


def of_lines(
    edges: Mapping[str, Sequence[Edge]], end: float, path: str, names: Mapping[Side, str], rate: int | None = None
) -> Capture:
    """What the two lines of a logic analyser say; `names` are the signals of host and module, otherwise the first two that
    moved. Raises CallFault."""
    moved = [name for name, changes in edges.items() if len(changes) > 2]
    chosen = {side: name for side, name in names.items() if name}
    for side in Side:
        free = [name for name in moved if name not in chosen.values()]
        if side not in chosen and free and len(moved) - len(chosen) > 0:
            chosen[side] = free[0]
    for name in chosen.values():
        if name not in edges:
            raise CallFault(f"there is no line {name}", where=path, hint=f"It has {', '.join(edges)}.")
    if not chosen:
        raise CallFault("nothing moves on its lines", where=path)
    readings: dict[Side, WaveformReading] = {}
    sent: list[Sent] = []
    for side, name in chosen.items():
        try:
            readings[side] = reading = read_line(edges[name], end, rate)
        except LineRefused as fault:
            raise CallFault(f"{name}: {fault}", where=path) from None
        sent += [Sent(char.end, side, bytes([char.byte]), char.wrong) for char in reading.chars]
    return _lasting(Capture(sorted(sent, key=lambda one: one.at), readings), path)


def _lasting(capture: Capture, path: str) -> Capture:
    """The capture, if its times can be those of one. Raises CallFault."""
    sent = capture.sent
    if sent and not sent[-1].at - sent[0].at <= LONGEST:
        raise CallFault("its times are more than ten years apart", where=path, hint="Correct the times in the file.")
    return capture


def of_log(text: str, host_words: Sequence[str] = ("AT",), path: str = "") -> Capture:
    """A text log of a terminal, with times and marks of direction or without. A line without a mark is the host's if it begins
    with one of `host_words`. A number in front is a time if nearly all lines have one. Raises CallFault."""
    sent: list[Sent] = []
    now = day = 0.0
    rows = [row.rstrip() for row in text.splitlines() if row.strip()]
    timed = sum(_TIME.match(row) is not None for row in rows) >= 0.9 * len(rows)
    for line in rows:
        if timed and (found := _TIME.match(line)):
            hours, minutes, seconds, plain = found.groups()
            stamp = plain or seconds
            at = float(stamp.replace(",", ".")) + (int(hours) * 3600 + int(minutes) * 60 if hours else 0)
            # Past midnight.
            day += 86_400 if hours and at + day < now - 43_200 else 0
            now = max(now, at + day)
            line = line[found.end() :]
        elif not timed:
            now += 0.01
        side = None
        for mark, whose in _MARKS:
            if found := mark.match(line):
                side, line = whose, line[found.end() :]
                break
        if side is None:
            side = Side.HOST if line.startswith(tuple(word for word in host_words if word)) else Side.MODULE
        if line:
            sent.append(Sent(now, side, line.encode("utf-8", "surrogateescape") + b"\r\n"))
    without = () if timed else ("the log has no times: its lines stand 10 ms apart",)
    return _lasting(Capture(sent, {}, ("rate, frame and line endings are not in a log", *without)), path)


def of_bytes(data: bytes, side: Side, tuning: Tuning) -> Capture:
    """Raw bytes of one direction, back to back at this tuning."""
    each = tuning.wire_time(1)
    return Capture(
        [Sent(number * each, side, bytes([byte])) for number, byte in enumerate(data, 1)],
        {},
        (f"{tuning} is not in the file, nor are pauses",),
    )
