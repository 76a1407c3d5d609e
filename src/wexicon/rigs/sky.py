"""The sky over a rig: satellites on their orbits, and where a receiver believes it is.

The rule: everything follows from the time and the receiver's name, so that a run can be repeated. Angles in degrees, distances
in metres unless a name says otherwise. The orbits are circular, with the usual heights and inclinations of the four systems:
good enough to see satellites rise and set, and no almanac.
"""

from __future__ import annotations

from collections.abc import Sequence
from math import asin, atan2, cos, degrees, exp, pi, radians, sin, sqrt
from random import Random
from typing import NamedTuple

import msgspec

EARTH_RADIUS_KM = 6371.0
EARTH_TURNS = 2 * pi / 86_164.1  # radians a second, sidereal
GRAVITY = 398_600.4  # of the earth, km^3/s^2
METRES_PER_DEGREE = 111_200.0
MASK = 7.0  # no satellite is used below this elevation
NEEDED, NEEDED_3D = 3, 4
LOOKS_EVERY = 10.0  # seconds; meanwhile a satellite moves by less than a tenth of a degree
# The errors of a position wander over about a minute; the first positions after a start are worse.
WANDERS, JITTER, SETTLES, WORSE = 60.0, 0.25, 20.0, 4.0


class Sky(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[air.sky]`: where receivers are (degrees, metres), how they move (`knots` and `course`), how many satellites of each
    system reach them at most (0: a roof overhead), after how many seconds they have a fix (cold, warm and hot start), and the
    range error of one satellite in metres."""

    latitude: float = 51.4821
    longitude: float = -2.9874
    altitude: float = 6.2
    knots: float = 0.0
    course: float = 0.0
    satellites: int = 12
    fix_in: float = 12.0
    warm_fix_in: float = 7.0
    hot_fix_in: float = 1.5
    range_error: float = 1.6


class System(NamedTuple):
    """A satellite system: its talker, its number in GSA (NMEA 0183, system identifier), the number of its first satellite,
    its orbit (radius in km, inclination), planes and satellites in each."""

    talker: str
    number: int
    first: int
    radius: float
    inclination: float
    planes: int
    each: int


SYSTEMS = (
    System("GP", 1, 1, 26_560, 55.0, 6, 5),
    System("GL", 2, 65, 25_510, 64.8, 3, 8),
    System("GA", 3, 1, 29_600, 56.0, 3, 8),
    System("GB", 4, 19, 27_906, 55.0, 3, 8),
)


class Satellite(NamedTuple):
    """A satellite as it is received: elevation and azimuth, and its signal (C/N0, dB-Hz)."""

    system: System
    number: int
    elevation: float
    azimuth: float
    signal: int


class Dilution(NamedTuple):
    """Dilution of precision: position, horizontal, vertical."""

    position: float
    horizontal: float
    vertical: float


def in_view(sky: Sky, systems: Sequence[System], now: float) -> list[Satellite]:
    """The satellites above the horizon, of each system the highest as far as they reach the receiver."""
    found = []
    for system in systems:
        seen = [one for one in _all_of(system, sky, now) if one.elevation > 2]
        seen.sort(key=lambda one: -one.elevation)
        found += sorted(seen[: sky.satellites], key=lambda one: one.number)
    return found


def _all_of(system: System, sky: Sky, now: float) -> list[Satellite]:
    turns = sqrt(GRAVITY / system.radius**3)
    north, east = radians(sky.latitude), radians(sky.longitude)
    made = []
    for index in range(system.planes * system.each):
        plane, place = divmod(index, system.each)
        # Two systems never stand at the same place: each plane is turned by its system's number.
        node = 2 * pi * plane / system.planes + system.number * 0.35 - EARTH_TURNS * now
        along = 2 * pi * place / system.each + plane * 0.53 + system.number * 0.81 + turns * now
        tilt = radians(system.inclination)
        x = system.radius * (cos(node) * cos(along) - sin(node) * cos(tilt) * sin(along))
        y = system.radius * (sin(node) * cos(along) + cos(node) * cos(tilt) * sin(along))
        z = system.radius * sin(tilt) * sin(along)
        # Seen from the receiver: to the east, the north and up.
        to_east = -sin(east) * x + cos(east) * y
        outward = cos(east) * x + sin(east) * y
        to_north = -sin(north) * outward + cos(north) * z
        up = cos(north) * outward + sin(north) * z - EARTH_RADIUS_KM
        away = sqrt(to_east**2 + to_north**2 + up**2)
        elevation = degrees(asin(up / away))
        signal = round(27 + 21 * max(0.0, sin(radians(elevation))) ** 0.7 + 2 * sin(now / 97 + index)) if up > 0 else 0
        number = system.first + index
        made.append(Satellite(system, number, elevation, degrees(atan2(to_east, to_north)) % 360, signal))
    return made


def dilution(used: Sequence[Satellite]) -> Dilution:
    """The dilution of precision of these satellites: from the inverse of the normal matrix of their directions."""
    if len(used) < NEEDED_3D:
        return Dilution(99.9, 9.9 if len(used) == NEEDED else 99.9, 99.9)
    rows = []
    for one in used:
        high, round_ = radians(one.elevation), radians(one.azimuth)
        rows.append((cos(high) * sin(round_), cos(high) * cos(round_), sin(high), 1.0))
    normal = [[sum(row[i] * row[j] for row in rows) for j in range(4)] for i in range(4)]
    variances = _inverse_diagonal(normal)
    if variances is None or min(variances) < 0:
        return Dilution(99.9, 99.9, 99.9)
    east, north, up, _ = variances
    told = (sqrt(east + north + up), sqrt(east + north), sqrt(up))
    return Dilution(*(min(99.9, one) for one in told))


def _inverse_diagonal(matrix: list[list[float]]) -> list[float] | None:
    """The diagonal of the inverse of a small matrix, by elimination; None where there is no inverse."""
    size = len(matrix)
    work = [[*row, *(float(i == j) for j in range(size))] for i, row in enumerate(matrix)]
    for at in range(size):
        best = max(range(at, size), key=lambda row: abs(work[row][at]))
        if abs(work[best][at]) < 1e-9:
            return None
        work[at], work[best] = work[best], work[at]
        work[at] = [one / work[at][at] for one in work[at]]
        for row in range(size):
            if row != at:
                factor = work[row][at]
                work[row] = [a - factor * b for a, b in zip(work[row], work[at], strict=True)]
    return [work[at][size + at] for at in range(size)]


class Receiver:
    """What a receiver makes of the sky: `acquires` seconds after its start it has a fix. Ask it with times that do not fall."""

    def __init__(self, sky: Sky, systems: Sequence[System], name: str, began: float, acquires: float) -> None:
        self.sky, self.systems = sky, systems
        self.began, self.acquires = began, acquires
        self._random = Random(name)
        # East, north and up, in standard deviations.
        self._error = [0.0, 0.0, 0.0]
        self._at: float | None = None
        self._seen: tuple[float, list[Satellite]] = (-1e9, [])
        self._precision: tuple[list[Satellite], Dilution] = ([], dilution([]))

    def satellites(self, now: float) -> list[Satellite]:
        """Those whose signal it has found so far."""
        if now - self._seen[0] >= LOOKS_EVERY:
            self._seen = (now, in_view(self.sky, self.systems, now))
        found = self._seen[1]
        share = min(1.0, (now - self.began) / max(self.acquires, 0.1))
        return found if share >= 1 else found[: int(share * len(found))]

    def used(self, now: float) -> list[Satellite]:
        """Those that its position is made of: none before the fix, then a few, and more with time."""
        since = now - self.began - self.acquires
        if since < 0:
            return []
        high = sorted(self.satellites(now), key=lambda one: -one.elevation)
        usable = [one for one in high if one.elevation >= MASK]
        return usable[: NEEDED_3D + 2 + int(since)] if len(usable) >= NEEDED else []

    def precision(self, used: list[Satellite]) -> Dilution:
        """The dilution of precision of those that it uses."""
        if used != self._precision[0]:
            self._precision = (used, dilution(used))
        return self._precision[1]

    def position(self, now: float, precision: Dilution) -> tuple[float, float, float]:
        """Latitude, longitude and altitude as it has them now."""
        passed = 0.0 if self._at is None else now - self._at
        spread = self.sky.range_error * (1 + WORSE * exp(-(now - self.began - self.acquires) / SETTLES))
        sigmas = (precision.horizontal * spread / sqrt(2),) * 2 + (min(precision.vertical, 20.0) * spread,)
        keeps = exp(-passed / WANDERS) if self._at is not None else 0.0
        for axis in range(3):
            self._error[axis] = keeps * self._error[axis] + self._random.gauss(0, sqrt(1 - keeps**2))
        self._at = now
        east, north, up = (
            one * min(sigma, 60.0) + self._random.gauss(0, JITTER)
            for one, sigma in zip(self._error, sigmas, strict=True)
        )
        moved = self.sky.knots * 0.514444 * now
        north += moved * cos(radians(self.sky.course))
        east += moved * sin(radians(self.sky.course))
        latitude = self.sky.latitude + north / METRES_PER_DEGREE
        longitude = self.sky.longitude + east / (METRES_PER_DEGREE * cos(radians(self.sky.latitude)))
        return latitude, longitude, self.sky.altitude + up
