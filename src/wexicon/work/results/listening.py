"""The result of listening: what came, by name, and what it adds up to.

The rule: everything here was heard in this session, or read from the module at its beginning; what was not heard is null or
empty. Times are seconds since listening began.
"""

from __future__ import annotations

from datetime import datetime

import msgspec

from wexicon.work.results.result import Result


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
