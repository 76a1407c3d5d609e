"""What a day of values adds up to, in constant memory: circles around scattered positions, and values over time.

The rule: a sketch grows to a fixed size and is then made coarser, never longer; how coarse it is can be asked, and
each result states it.
"""

from __future__ import annotations

from math import floor, hypot, sqrt

MOST_CELLS = 4096
FINEST_CELL = 0.01  # metres
MOST_BINS = 512
FINEST_BIN = 1.0  # seconds


class Scatter:
    """Positions in metres east and north of a first one, counted in square cells. `cell` is the side of a cell in metres: it
    doubles whenever there are too many cells."""

    def __init__(self, most: int = MOST_CELLS) -> None:
        self.cell = FINEST_CELL
        self.count = 0
        self.cells: dict[tuple[int, int], int] = {}
        self._most = most
        self._east = self._north = 0.0

    def add(self, east: float, north: float) -> None:
        """Counts one more position."""
        self.count += 1
        # The mean is exact: it is not taken from cells.
        self._east += (east - self._east) / self.count
        self._north += (north - self._north) / self.count
        at = (floor(east / self.cell), floor(north / self.cell))
        self.cells[at] = self.cells.get(at, 0) + 1
        while len(self.cells) > self._most:
            self._coarser()

    def _coarser(self) -> None:
        self.cell *= 2
        merged: dict[tuple[int, int], int] = {}
        for (x, y), many in self.cells.items():
            merged[x >> 1, y >> 1] = merged.get((x >> 1, y >> 1), 0) + many
        self.cells = merged

    @property
    def mean(self) -> tuple[float, float]:
        """The mean position, in metres east and north of the first one."""
        return self._east, self._north

    @property
    def error(self) -> float:
        """By how many metres a circle's radius can be wrong at most: half the diagonal of a cell."""
        return self.cell / sqrt(2)

    def places(self) -> list[tuple[float, float, int]]:
        """The middle of each cell, in metres east and north of the mean, and how many positions it holds."""
        east, north = self.mean
        return [
            ((x + 0.5) * self.cell - east, (y + 0.5) * self.cell - north, many) for (x, y), many in self.cells.items()
        ]

    def radius(self, share: float) -> float:
        """The radius in metres of the circle around the mean that holds this share (0 to 1) of all positions."""
        wanted, held = share * self.count, 0
        for away, many in sorted((hypot(east, north), many) for east, north, many in self.places()):
            held += many
            if held >= wanted:
                return away
        return 0.0


class Bin:
    """The values of one stretch of time: how many, least, most, mean."""

    __slots__ = ("count", "least", "mean", "most")

    def __init__(self, value: float) -> None:
        self.count, self.least, self.most, self.mean = 1, value, value, value

    def take(self, value: float) -> None:
        """Takes in one value."""
        self.count += 1
        self.mean += (value - self.mean) / self.count
        if value < self.least:
            self.least = value
        elif value > self.most:
            self.most = value

    def merge(self, other: Bin) -> None:
        """Takes in the values of another."""
        self.least, self.most = min(self.least, other.least), max(self.most, other.most)
        self.count += other.count
        self.mean += (other.mean - self.mean) * other.count / self.count


class OverTime:
    """Values over time in bins of `width` seconds, which doubles whenever there are too many."""

    def __init__(self, most: int = MOST_BINS) -> None:
        self.width = FINEST_BIN
        self.count = 0
        self.whole: Bin | None = None
        self.bins: dict[int, Bin] = {}
        self._most = most

    def add(self, at: float, value: float) -> None:
        """Takes a value of the time `at` (seconds)."""
        self.count += 1
        key = floor(at / self.width)
        if key in self.bins:
            self.bins[key].take(value)
        else:
            self.bins[key] = Bin(value)
        if self.whole is None:
            self.whole = Bin(value)
        else:
            self.whole.take(value)
        while len(self.bins) > self._most:
            self._coarser()

    def _coarser(self) -> None:
        self.width *= 2
        merged: dict[int, Bin] = {}
        for key, one in self.bins.items():
            if key >> 1 in merged:
                merged[key >> 1].merge(one)
            else:
                merged[key >> 1] = one
        self.bins = merged

    def points(self) -> list[tuple[float, Bin]]:
        """The middle of each bin in seconds, and its values."""
        return [((key + 0.5) * self.width, one) for key, one in sorted(self.bins.items())]
