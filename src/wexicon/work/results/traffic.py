"""The result of a traffic test.

The rule: everything counted was seen on a port.
"""

from __future__ import annotations

from datetime import datetime

import msgspec

from wexicon.work.results.measurement import Measurement
from wexicon.work.results.result import Result


class Direction(msgspec.Struct):
    """One direction: packets sent, received, lost, damaged and duplicate; median and 95 % time to the other end (seconds)."""

    way: str
    sent: int
    received: int
    lost: int
    damaged: int
    duplicates: int
    median: float | None
    most: float | None


class PacketTiming(msgspec.Struct):
    """One packet: when it was sent (seconds from the start), how long it and its answer took; null if none was received."""

    number: int
    at: float
    there: float | None
    round_trip: float | None


class TrafficResult(Result):
    """The result of a traffic test. Times are seconds, `most` is the 95 % value, `rate` the payload bytes a second in both
    directions together. `signal` is what each port's module reported of the packets that it heard: least, median, greatest.
    `complete` is whether the test was carried out to its end. `own` are packets that came back to the port that sent them,
    `strange` bytes outside any packet, `instead` the lines that came between packets, by port, with their meaning."""

    ports: list[str] = []
    links: list[str] = []
    ways: list[Direction] = []
    measurements: list[Measurement] = []
    median: float | None = None
    most: float | None = None
    rate: float = 0.0
    size: int = 0
    signal: dict[str, dict[str, list[float]]] = {}
    complete: bool = False
    own: int = 0
    strange: int = 0
    instead: dict[str, list[str]] = {}
    trips: list[PacketTiming] = []
    started: datetime | None = None
    traces: list[str] = []
