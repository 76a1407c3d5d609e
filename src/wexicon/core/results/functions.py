"""The results of what a finished module does: traffic, sweeps, flow control, listening, a tap, a console, an imported trace.

The rule: what is counted was seen on a port or in the file; what was not seen is null or empty. Times are seconds since the
work began.
"""

from __future__ import annotations

from datetime import datetime

import msgspec

from wexicon.core.faults import ModuleFault
from wexicon.core.results.result import Measurement, Result


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


class SweepPoint(msgspec.Struct):
    """One point: its settings as they are shown, what was sent and received each way, the share lost in percent, the median
    round trip (seconds), and what each port's module reported of the packets that it heard: least, median, greatest."""

    settings: dict[str, str]
    ways: list[Direction] = []
    lost: float = 100.0
    median: float | None = None
    signal: dict[str, dict[str, list[float]]] = {}


class SweepResult(Result):
    """The points in the order in which they were measured; `restored` is whether all settings were read back as before."""

    ports: list[str] = []
    points: list[SweepPoint] = []
    restored: bool = False
    traces: list[str] = []

    def require_something(self) -> None:
        """Fails if nothing was received at any point: that is no measurement."""
        if self.points and all(one.lost == 100 for one in self.points) and self.failure is None:
            hint = "Check that both modules share network, frequency and spreading, and how far apart they are."
            self.ended_by(ModuleFault("nothing was received at any point", hint=hint), "sweep")


class FlowResult(Result):
    """`flow` is the kind of flow control; packets of `size` bytes were `sent`, `received`, `lost` and `damaged`. `holds` are
    the times for which the sender was held back (seconds)."""

    ports: list[str] = []
    links: list[str] = []
    flow: str = ""
    size: int = 0
    sent: int = 0
    received: int = 0
    lost: int = 0
    damaged: int = 0
    holds: list[float] = msgspec.field(default_factory=list)
    traces: list[str] = []

    @property
    def held(self) -> float:
        """For how long the sender was held back in all (seconds)."""
        return round(sum(self.holds), 3)


class HeardEvent(msgspec.Struct, kw_only=True):
    """One thing that the module sent by itself. `wall` is when it came (UTC), `name` what the lexicon or the standard calls it
    (empty: it is not known), `values` its parts as a person reads them, `text` the line."""

    at: float
    wall: datetime
    name: str = ""
    values: dict[str, str] = {}
    text: str = ""


class PositionSummary(msgspec.Struct, kw_only=True):
    """Positions: how many reports there were and how many of them had a fix. `first_fix` is in seconds since `counted_from`;
    latitude and longitude are the mean (degrees), `radius_50` and `radius_95` the circles around it that hold half and 95 % of
    the positions (metres), right to `radius_error`; `lost` counts how often a fix was lost."""

    reports: int
    fixes: int
    first_fix: float | None = None
    counted_from: str = ""
    lost: int = 0
    latitude: float | None = None
    longitude: float | None = None
    altitude: float | None = None
    radius_50: float | None = None
    radius_95: float | None = None
    radius_error: float | None = None
    satellites_least: int | None = None
    satellites_most: int | None = None
    hdop_mean: float | None = None


class SatelliteSummary(msgspec.Struct, kw_only=True):
    """A satellite: its system and number, where it was last (degrees), the mean of its signal (C/N0 in dB-Hz), and whether it
    was used for a position."""

    system: str
    number: int
    elevation: float | None
    azimuth: float | None
    signal: float | None
    used: bool


class StateSummary(msgspec.Struct, kw_only=True):
    """A state that the module reports: how long it was in each (seconds), and how often each began."""

    name: str
    seconds: dict[str, float]
    times: dict[str, int]


class TimerSummary(msgspec.Struct, kw_only=True):
    """A timer: what was asked of the network and what it granted (seconds; null: not read), and what was observed: how often,
    and for how long. `within`: how many of them were within 1 s of what was granted, or asked if that was not read; null if
    neither was read. `deviations` say how the others differ."""

    name: str
    asked: float | None = None
    granted: float | None = None
    observed: int = 0
    within: int | None = None
    least: float | None = None
    median: float | None = None
    most: float | None = None
    deviations: list[str] = []


class SeriesSummary(msgspec.Struct, kw_only=True):
    """A number that an event reports: least, mean and most of it."""

    event: str
    name: str
    unit: str
    count: int
    least: float
    mean: float
    most: float


class MessageSummary(msgspec.Struct, kw_only=True):
    """A message that came while listening."""

    at: float
    sender: str
    text: str


class ListeningResult(Result, kw_only=True):
    """A listening session on a port. `events` counts them by name, `unknown` the lines that are no event, `damaged` those with
    a wrong checksum or cut off; `until` is the event that was waited for and `reached` when it came."""

    port: str = ""
    lexicon: str = ""
    identity: dict[str, str] = {}
    events: dict[str, int] = {}
    unknown: int = 0
    damaged: int = 0
    starts: int = 0
    until: str = ""
    reached: float | None = None
    position: PositionSummary | None = None
    satellites: list[SatelliteSummary] = []
    states: list[StateSummary] = []
    timers: list[TimerSummary] = []
    series: list[SeriesSummary] = []
    messages: list[MessageSummary] = []
    remarks: list[str] = []


class FaultCount(msgspec.Struct):
    """A fault as it was written, and how often it was done (bytes, or lines)."""

    fault: str
    done: int


class Told(msgspec.Struct, frozen=True):
    """A part of what is known of a module: its name, its value in words, how many seconds `ago` that was observed, and
    the observation that it rests on."""

    part: str
    value: str
    ago: float
    by: str


class TalkEnd(msgspec.Struct, frozen=True):
    """What is known of a module as a conversation with it ends; the name of its side, where there are two."""

    known: list[Told]
    side: str = ""


class TapResult(Result):
    """Bytes that came `from_host` and `from_module`; `lines` of the host, and how many were answered with success; `undecoded`
    bytes passed faster than they could be decoded; what is `known` of the module at the end."""

    from_host: int = 0
    from_module: int = 0
    lines: int = 0
    answers: int = 0
    undecoded: int = 0
    faults: list[FaultCount] = []
    known: list[Told] = []


class TalkLine(msgspec.Struct, frozen=True):
    """One line to be seen: when; `>` said, `>>` said exactly, `<` heard, `~` our side, `=` told by Wexicon, `!` wrong; the
    text, safe to show; what it means; `event`, `aside`, `error`, `broken`, `partial`, `bytes` or `` by what it was; the name
    and number of its side, where there are two."""

    at: datetime
    mark: str
    text: str
    meaning: str = ""
    kind: str = ""
    side: str = ""
    number: int = 0


class Imported(msgspec.Struct):
    """What became of a capture: the trace, bytes of each side, lines that the host said, characters whose frame was wrong;
    rate and frame of each line as measured, and whether its levels were inverted."""

    trace: str
    from_host: int
    from_module: int
    lines: int
    wrong: int
    tunings: dict[str, str] = {}
