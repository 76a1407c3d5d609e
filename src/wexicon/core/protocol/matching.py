"""The careful matcher: holds one pattern against one line where one regular expression would not be linear.

The rule: the work is in proportion to the line. Kinds take as many characters as belong to them and give none back; free
text takes as few as will do; where a run of characters ends is found once for each kind and remembered.
"""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Mapping
from itertools import accumulate
from typing import Any

from wexicon.core.protocol.elements import LONGEST_NUMBER, RUNS, CaptureElement, Element, Equal, Literal, Parts, convert
from wexicon.core.text import plain, to_bytes, written


class Either:
    """A known value that may be heard in several ways, the longest tried first; `said` is how it is said."""

    __slots__ = ("said", "ways")

    def __init__(self, said: str, *ways: str) -> None:
        self.said = said
        self.ways = tuple(sorted({said, *ways}, key=len, reverse=True))


class MatchAttempt:
    """One match of one pattern, given as its parts, against one text; `reach` is how far it did fit, `steps` how much work
    that was."""

    __slots__ = ("ends", "known", "offsets", "parts", "reach", "spans", "steps", "text")

    def __init__(self, parts: Parts, text: str, known: Mapping[str, object]) -> None:
        self.parts, self.text, self.known = parts, text, known
        # Where each capture stands; cut out and converted only once the whole pattern fits, or it would not be linear.
        self.spans: dict[str, tuple[str, int, int]] = {}
        self.ends: dict[str, tuple[int, int]] = {}
        self.offsets: list[int] | None = None
        self.reach = 0
        self.steps = 0

    def run(self) -> dict[str, object] | None:
        """The captures where the whole text fits, else None."""
        at = 0
        text = self.text
        last = len(self.parts) - 1
        for index, (free, run) in enumerate(self.parts):
            if free is None:
                end = self._fit(run, at)
                if end < 0 or (index == last and end != len(text)):
                    self.reach = max(self.reach, end, 0)
                    return None
            else:
                start, end = self._search(free, run, at, index == last)
                if start < 0:
                    self.reach = max(self.reach, at)
                    return None
                if isinstance(free, CaptureElement):
                    self.spans[free.name] = (free.makes, at, start)
            at = end
        return {name: convert(kind, text[start:end]) for name, (kind, start, end) in self.spans.items()}

    def _search(self, free: Element, run: list[Element], at: int, last: bool) -> tuple[int, int]:
        """The first place from `at` on where the run fits (to the very end of the text if it is the last)."""
        text = self.text
        if not run:
            return (len(text), len(text)) if last else (at, at)
        lead = self._lead(run[0])
        if last and len(run) == 1 and lead:
            start = len(text) - len(lead)
            return (start, len(text)) if start >= at and text.endswith(lead) else (-1, -1)
        start = at
        while True:
            if lead:
                start = text.find(lead, start)
                if start < 0:
                    return -1, -1
            elif start > len(text):
                return -1, -1
            if isinstance(free, CaptureElement):
                self.spans[free.name] = (free.makes, at, start)
            end = self._fit(run, start)
            if end >= 0 and (not last or end == len(text)):
                return start, end
            start = self._next_start(run[0], start)

    def _next_start(self, first: Element, start: int) -> int:
        """Where the run may fit next: never inside a run of characters that was taken as a whole."""
        if isinstance(first, CaptureElement) and first.kind in RUNS:
            remembered = self.ends.get(first.kind)
            if remembered and remembered[0] <= start < remembered[1]:
                return remembered[1]
        return start + 1

    def _lead(self, element: Element) -> str:
        """What must stand where an element begins, if that is one thing only."""
        ways = self._ways(element)
        return ways[0] if len(ways) == 1 else ""

    def _ways(self, element: Element) -> tuple[str, ...]:
        """What an element that captures nothing may be."""
        if isinstance(element, Literal):
            return (element.text,)
        if not isinstance(element, Equal):
            return ()
        if element.name in self.spans:
            _, start, end = self.spans[element.name]
            return (self.text[start:end],)
        known = plain(self.known.get(element.name, ""))
        return known.ways if isinstance(known, Either) else (written(known),)

    def _fit(self, run: list[Element], at: int) -> int:
        """Where the run ends if it fits at `at`, else -1."""
        text = self.text
        for element in run:
            self.steps += 1
            if isinstance(element, CaptureElement):
                end = self._size(element, at) if element.kind == "bytes" else self._run_end(element.kind, at)
                if end < 0:
                    self.reach = max(self.reach, at)
                    return -1
                self.spans[element.name] = (element.makes, at, end)
                at = end
            else:
                ways = self._ways(element)
                lead = next((way for way in ways if text.startswith(way, at)), None)
                if lead is None:
                    self.reach = max(self.reach, at + max((_alike(way, text, at) for way in ways), default=0))
                    return -1
                at += len(lead)
        return at

    def _run_end(self, kind: str, at: int) -> int:
        remembered = self.ends.get(kind)
        if remembered and remembered[0] <= at < remembered[1] and kind != "quoted":
            return remembered[1]
        found = RUNS[kind].match(self.text, at)
        if not found:
            return -1
        self.ends[kind] = (at, found.end())
        return found.end()

    def _size(self, element: CaptureElement, at: int) -> int:
        """Where the raw bytes that begin at `at` end, or -1 if the input is shorter, or no character ends there."""
        if element.counted is not None:
            return element.counted.end_in(self.text, at)
        count: Any = element.size
        if count in self.spans:
            kind, start, end = self.spans[count]
            count = convert(kind, self.text[start : min(end, start + LONGEST_NUMBER)])
        elif not count.isdigit():
            count = plain(self.known.get(count))
        if not (str(count).isascii() and str(count).isdigit()):
            return -1
        if self.text.isascii():
            return at + int(count) if at + int(count) <= len(self.text) else -1
        if self.offsets is None:
            self.offsets = [0, *accumulate(len(to_bytes(char)) for char in self.text)]
        wanted = self.offsets[at] + int(count)
        end = bisect_left(self.offsets, wanted)
        return end if end < len(self.offsets) and self.offsets[end] == wanted else -1


def _alike(lead: str, text: str, at: int) -> int:
    """How many characters of `lead` stand at `at`."""
    pairs = enumerate(zip(lead, text[at : at + len(lead)], strict=False))
    return next((index for index, (wanted, heard) in pairs if wanted != heard), min(len(lead), len(text) - at))
