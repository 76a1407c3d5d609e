"""States that a module reports, over time, and the timers between them: what was asked, granted and observed.

The rule: only what was reported counts; a state lasts until the module reports another. Nothing grows with time.
"""

from __future__ import annotations

from collections import deque
from statistics import median

from wexicon.core.durations import spoken
from wexicon.core.formats.lexicon.listening import Timer
from wexicon.core.text import counted
from wexicon.work.results.listening import StateSummary, TimerSummary

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
