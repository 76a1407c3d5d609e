"""What the events of a module add up to: states over time, timers (asked, granted, observed), position and satellites.

The rule: only what was reported counts; a state lasts until the module reports another. A position counts once for each
report, though several sentences tell it. Nothing grows with time.
"""

from __future__ import annotations

from collections import deque
from statistics import median

from wexicon.core.engineering.radio import metres_per_degree
from wexicon.core.engineering.sketches import OverTime, Scatter
from wexicon.core.formats.lexicon.listening import Timer
from wexicon.core.results.functions import PositionSummary, SatelliteSummary, StateSummary, TimerSummary
from wexicon.core.standards.gnss import POSITIONS, Fix, Sentence, fix_of, used_of, views_of
from wexicon.core.text import counted, spoken

# How many changes of a state, and how many times that a timer ran, are kept for the figure.
MOST_SPANS = 4096
# By how much an observed timer may differ from what was granted (seconds).
TOLERANCE = 1.0


class Span:
    """One stretch of a state: from when to when (seconds), and which."""

    __slots__ = ("begins", "ends", "state")

    def __init__(self, begins: float, state: str) -> None:
        self.begins, self.ends, self.state = begins, begins, state


class StateTrack:
    """One state over time: its last spans, and the totals of all."""

    def __init__(self, name: str) -> None:
        self.name = name
        self.spans: deque[Span] = deque(maxlen=MOST_SPANS)
        self.seconds: dict[str, float] = {}
        self.times: dict[str, int] = {}

    @property
    def now(self) -> str:
        """The state that was reported last; empty if none was."""
        return self.spans[-1].state if self.spans else ""

    def take(self, at: float, state: str) -> bool:
        """The module reports a state; whether it is another than before."""
        self.pass_to(at)
        if state == self.now:
            return False
        self.spans.append(Span(at, state))
        self.times[state] = self.times.get(state, 0) + 1
        return True

    def pass_to(self, at: float) -> None:
        """Time has passed up to `at`."""
        if self.spans:
            last = self.spans[-1]
            self.seconds[last.state] = self.seconds.get(last.state, 0.0) + at - last.ends
            last.ends = at

    def summary(self) -> StateSummary:
        """What it adds up to."""
        told = {state: round(one, 3) for state, one in self.seconds.items()}
        return StateSummary(name=self.name, seconds=told, times=dict(self.times))


class TimerTrack:
    """One timer: `asked` and `granted` in seconds, as far as read; each time that it ran."""

    def __init__(self, timer: Timer) -> None:
        self.timer = timer
        self.asked: float | None = None
        self.granted: float | None = None
        self.observed: deque[tuple[float, float]] = deque(maxlen=MOST_SPANS)
        self._cut: deque[float] = deque(maxlen=MOST_SPANS)
        self.count = self.within = self.short = self.long = self.missed = 0
        self._since: float | None = None
        self._least = self._most = 0.0
        self._longest_missed = 0.0

    @property
    def wanted(self) -> float | None:
        """What it should be: as granted, or as asked where nothing is known of that; None if neither is, or it is off."""
        return (self.asked if self.granted is None else self.granted) or None

    def read(self, asked: float | None, granted: float | None) -> None:
        """What was asked and granted has been read: what was observed before is compared with it too."""
        self.asked, self.granted = asked, granted
        self.within = self.short = self.long = self.missed = 0
        self._longest_missed = 0.0
        for _, passed in self.observed:
            self._compare(passed)
        for passed in self._cut:
            self._compare_cut(passed)

    def changed(self, at: float, name: str, before: str, state: str) -> None:
        """A state has changed."""
        begins, ends = self.timer.begins, self.timer.ends
        if self._since is not None and (name, state) == ends:
            self._ran(at, at - self._since)
            self._since = None
        elif (name, state) == begins:
            self._since = at
        elif self._since is not None and (name, before) == begins:
            # It went on before the timer had run out.
            self._end_early(at - self._since)
            self._since = None

    def end(self, at: float) -> None:
        """Listening ends."""
        if self._since is not None:
            self._end_early(at - self._since)
            self._since = None

    def _ran(self, at: float, passed: float) -> None:
        self._least = passed if not self.count else min(self._least, passed)
        self._most = max(self._most, passed)
        self.count += 1
        self.observed.append((at, passed))
        self._compare(passed)

    def _compare(self, passed: float) -> None:
        if self.wanted is not None:
            self.short += passed < self.wanted - TOLERANCE
            self.long += passed > self.wanted + TOLERANCE
            self.within += abs(passed - self.wanted) <= TOLERANCE

    def _end_early(self, passed: float) -> None:
        self._cut.append(passed)
        self._compare_cut(passed)

    def _compare_cut(self, passed: float) -> None:
        """It did not run out; whether there was time enough."""
        if self.wanted is not None and passed > self.wanted + TOLERANCE:
            self.missed += 1
            self._longest_missed = max(self._longest_missed, passed)

    def summary(self) -> TimerSummary:
        """What was observed, and how it differs."""
        made = TimerSummary(name=self.timer.setting, asked=self.asked, granted=self.granted, observed=self.count)
        if self.count:
            middle = median(passed for _, passed in self.observed)
            made.least, made.median, made.most = (round(one, 3) for one in (self._least, middle, self._most))
        made.within = None if self.wanted is None else self.within
        made.deviations = list(self._deviations())
        return made

    def _deviations(self) -> list[str]:
        told = []
        name = self.timer.setting
        if self.asked is not None and self.granted is not None and self.asked != self.granted:
            asked, granted = (spoken(one) if one else "off" for one in (self.asked, self.granted))
            told.append(f"{name}: the network grants {granted} where {asked} was asked")
        return told + self.differences()

    def differences(self) -> list[str]:
        """How what was observed differs from what was granted, or asked."""
        told: list[str] = []
        if self.wanted is None:
            return told
        name, end = self.timer.setting, " ".join(self.timer.ends)
        wanted = spoken(self.wanted)
        if self.short:
            what = f"{name}: {end} came early {self.short} of {counted(self.count, 'time')}"
            told.append(f"{what}, after {spoken(round(self._least, 1))} at the earliest, not {wanted}")
        if self.long:
            what = f"{name}: {end} came late {self.long} of {counted(self.count, 'time')}"
            told.append(f"{what}, after {spoken(round(self._most, 1))} at the latest, not {wanted}")
        if self.missed:
            begin = " ".join(self.timer.begins)
            what = f"{name}: no {end} {counted(self.missed, 'time')}, though {begin} lasted longer than {wanted}"
            told.append(
                f"{what} (up to {spoken(round(self._longest_missed, 1))}): something keeps it from that, such as an open socket"
            )
        return told


class States:
    """All states and timers of a module. `due` is for the listener to clear."""

    def __init__(self, timers: tuple[Timer, ...]) -> None:
        self.tracks: dict[str, StateTrack] = {}
        self.timers = [TimerTrack(timer) for timer in timers]
        # Whether a timer runs whose granted value is not known yet.
        self.due = False

    def take(self, at: float, name: str, state: str) -> None:
        """The module reports a state."""
        track = self.tracks.setdefault(name, StateTrack(name))
        before = track.now
        if track.take(at, state):
            for timer in self.timers:
                timer.changed(at, name, before, state)
                self.due |= timer.granted is None and (name, state) == timer.timer.begins

    def end(self, at: float) -> None:
        """Listening ends."""
        for track in self.tracks.values():
            track.pass_to(at)
        for timer in self.timers:
            timer.end(at)


MOST_SATELLITES = 128
# Places that are kept of each satellite's way over the sky, and how far apart they are at least (degrees).
MOST_PLACES, APART = 100, 2.0

# Fewer positions have no circles.
ENOUGH = 20

Key = tuple[str, int]


class SatelliteTrack:
    """One satellite: `places` are (elevation, azimuth) as they came; `signal` its signal over time."""

    def __init__(self) -> None:
        self.places: deque[tuple[float, float]] = deque(maxlen=MOST_PLACES)
        self.signal = OverTime(64)
        self.used = False

    def see(self, at: float, elevation: float | None, azimuth: float | None, signal: float | None) -> None:
        """It was seen there, with this signal."""
        if elevation is not None and azimuth is not None:
            last = self.places[-1] if self.places else None
            if last is None or abs(last[0] - elevation) >= APART or abs(last[1] - azimuth) >= APART:
                self.places.append((elevation, azimuth))
        if signal is not None:
            self.signal.add(at, signal)


class Positions:
    """Takes sentences with the time at which they came."""

    def __init__(self) -> None:
        self.scatter = Scatter()
        self.hdop = OverTime()
        self.used = OverTime()
        self.satellites: dict[Key, SatelliteTrack] = {}
        self.reports = self.fixes = self.lost = 0
        self.counted_from = "listening began"
        self._counts_from = 0.0
        self._first_fix: float | None = None
        self._without: float | None = None
        self._there = False
        self._kind = ""
        self._first: tuple[float, float] | None = None
        self._scale = (0.0, 0.0)
        self._altitude, self._altitudes = 0.0, 0
        self._views = 0

    @property
    def has_fix(self) -> bool:
        """Whether the last report had a fix."""
        return self._there

    def start(self, at: float, why: str) -> None:
        """From now on the time to the first fix is counted."""
        self._counts_from, self.counted_from = at, why
        self._first_fix = None
        # The start itself is what shows that there was no fix.
        self._without, self._there = at, False

    def take(self, at: float, sentence: Sentence) -> bool:
        """Takes a sentence; whether a first fix came with it."""
        kind = sentence.kind
        if kind == "GSV":
            self._views += 1
            for one in views_of(sentence):
                if track := self._track((one.system, one.number)):
                    track.see(at, one.elevation, one.azimuth, one.signal)
        elif kind == "GSA":
            if used := used_of(sentence):
                for number in used[1]:
                    for key in [(used[0], number)] if used[0] else [key for key in self.satellites if key[1] == number]:
                        if track := self._track(key):
                            track.used = True
        elif kind in POSITIONS:
            # Of several kinds that tell a position, the one that tells most.
            if not self._kind or POSITIONS.index(kind) < POSITIONS.index(self._kind):
                self._kind = kind
            if kind == self._kind and (fix := fix_of(sentence)):
                return self._position(at, fix)
        return False

    def _track(self, key: Key) -> SatelliteTrack | None:
        if key not in self.satellites:
            if len(self.satellites) >= MOST_SATELLITES:
                return None
            self.satellites[key] = SatelliteTrack()
        return self.satellites[key]

    def _position(self, at: float, fix: Fix) -> bool:
        self.reports += 1
        if not fix.there or fix.latitude is None or fix.longitude is None:
            if self._there:
                self.lost += 1
            self._there = False
            if self._without is None:
                self._without = at
            return False
        self._there = True
        self.fixes += 1
        first = self._first_fix is None and self._without is not None
        if first:
            self._first_fix = at - self._counts_from
        if self._first is None:
            self._first = (fix.latitude, fix.longitude)
            self._scale = metres_per_degree(fix.latitude)
        turn = (fix.longitude - self._first[1] + 180) % 360 - 180
        self.scatter.add(turn * self._scale[1], (fix.latitude - self._first[0]) * self._scale[0])
        if fix.altitude is not None:
            self._altitudes += 1
            self._altitude += (fix.altitude - self._altitude) / self._altitudes
        if fix.satellites is not None:
            self.used.add(at, fix.satellites)
        if fix.hdop is not None:
            self.hdop.add(at, fix.hdop)
        return first or self.fixes == 1

    def summary(self) -> PositionSummary | None:
        """What it adds up to; None if no sentence told of a position."""
        if not self.reports:
            return None
        made = PositionSummary(reports=self.reports, fixes=self.fixes, lost=self.lost)
        if not self.fixes or self._first is None:
            return made
        if self._first_fix is not None:
            made.first_fix, made.counted_from = round(self._first_fix, 3), self.counted_from
        east, north = self.scatter.mean
        made.latitude = round(self._first[0] + north / self._scale[0], 8)
        made.longitude = round((self._first[1] + east / self._scale[1] + 180) % 360 - 180, 8)
        made.altitude = round(self._altitude, 3) if self._altitudes else None
        if self.fixes >= ENOUGH:
            made.radius_50, made.radius_95 = (round(self.scatter.radius(share), 3) for share in (0.5, 0.95))
            made.radius_error = round(self.scatter.error, 4)
        if self.used.whole:
            made.satellites_least, made.satellites_most = int(self.used.whole.least), int(self.used.whole.most)
        if self.hdop.whole:
            made.hdop_mean = round(self.hdop.whole.mean, 2)
        return made

    def in_view(self) -> list[SatelliteSummary]:
        """Each satellite that was seen, by system and number."""
        found = []
        for (system, number), track in sorted(self.satellites.items()):
            elevation, azimuth = track.places[-1] if track.places else (None, None)
            whole = track.signal.whole
            signal = round(whole.mean, 1) if whole else None
            found.append(
                SatelliteSummary(
                    system=system, number=number, elevation=elevation, azimuth=azimuth, signal=signal, used=track.used
                )
            )
        return found

    def why_not(self) -> str:
        """Why there is no fix, as far as the sentences tell."""
        if not self.reports:
            return f"no sentence that reports a position came: switch one on ({', '.join(POSITIONS)})"
        if not self._views:
            return "no GSV sentence came: switch GSV on to see which satellites it hears, or check the antenna and its cable"
        heard = [one for one in self.satellites.values() if one.signal.count]
        if not self.satellites:
            return (
                "it sees no satellite, by its GSV sentences: check the antenna and its cable, and give it an open sky"
            )
        if len(heard) < 4:
            return f"{len(heard)} of {len(self.satellites)} satellites are heard, four are needed: give it an open sky"
        return f"{len(heard)} satellites are heard: wait longer; a cold start takes about half a minute and more"
