"""Events (unsolicited result codes) and unknown lines, kept until they are taken.

The rule: none is looked at twice by the same waiter, so that waiting takes time in proportion to what comes; the queue is
bounded, and the oldest go first.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator

from wexicon.core.protocol.observations import Heard

MOST_EVENTS = 100_000
MOST_CHARACTERS = 8_388_608


class Events:
    """`count` is how many there ever were, each with its number from 0 on; `lost` how many went because there was no room."""

    def __init__(self) -> None:
        self.count = 0
        self.lost = 0
        self._size = 0
        self._kept: dict[int, Heard] = {}
        self._first = 0

    def first(self) -> int:
        """The number of the oldest that is kept."""
        while self._first < self.count and self._first not in self._kept:
            self._first += 1
        return self._first

    def at(self, number: int) -> Heard | None:
        """The event of a number, if it is kept."""
        return self._kept.get(number)

    def drop(self, number: int) -> None:
        """Forgets one."""
        event = self._kept.pop(number, None)
        if event is not None:
            self._size -= len(event.text)

    def add(self, event: Heard) -> None:
        """Keeps one more."""
        kept = self._kept
        kept[self.count] = event
        self.count += 1
        self._size += len(event.text)
        while len(kept) > MOST_EVENTS or self._size > MOST_CHARACTERS:
            self.drop(self.first())
            self.lost += 1

    def __iter__(self) -> Iterator[Heard]:
        return iter(list(self._kept.values()))

    def __len__(self) -> int:
        return len(self._kept)

    def clear(self) -> None:
        """Forgets all that are kept."""
        self._kept.clear()
        self._size = 0


class Waiter:
    """Waits for an event that `pick` likes and that came at `since` or later; remembers how far it has looked."""

    def __init__(self, events: Events, pick: Callable[[Heard], bool], since: float = 0.0) -> None:
        self._events, self._pick, self._since = events, pick, since
        self._looked = 0

    def take(self) -> Heard | None:
        """The first one, taken from the queue; None where there is none yet."""
        events = self._events
        self._looked = max(self._looked, events.first())
        while self._looked < events.count:
            number, self._looked = self._looked, self._looked + 1
            event = events.at(number)
            if event is not None and event.at >= self._since and self._pick(event):
                events.drop(number)
                return event
        return None
