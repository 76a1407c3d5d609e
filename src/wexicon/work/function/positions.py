"""What the sentences of a receiver add up to: time to first fix, where it is and how far that scatters, its satellites.

The rule: a position counts once for each report, though several sentences tell it. Nothing grows with time.
"""

from __future__ import annotations

from collections import deque

from wexicon.core.engineering.geodesy import metres_per_degree
from wexicon.core.engineering.sketches import OverTime, Scatter
from wexicon.core.standards.gnss import POSITIONS, Fix, fix_of, used_of, views_of
from wexicon.core.standards.nmea import Sentence
from wexicon.work.results.listening import PositionSummary, SatelliteSummary

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
