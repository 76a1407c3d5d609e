"""Two traces compared, exchange by exchange: lines that differ, are missing, or came in another order.

The rule: exchanges are aligned by the lines sent, in time in proportion to the traces; where they part, the nearest place at
which two exchanges in a row agree again is looked for, up to a fixed distance.
"""

from __future__ import annotations

from collections.abc import Sequence
from enum import StrEnum

import msgspec

from wexicon.core.protocol.recorded import RecordedExchange

# How far ahead the place is looked for at which two traces agree again (exchanges).
AHEAD = 32
# A time differs if it is longer by this (seconds), and by this factor.
LONGER, TIMES = 0.05, 1.5


class Kind(StrEnum):
    """How two exchanges differ."""

    SAID = "said differently"
    HEARD = "heard differently"
    ONLY_FIRST = "only in the first"
    ONLY_SECOND = "only in the second"
    ORDER = "in another order"
    TIME = "took longer"


class Difference(msgspec.Struct):
    """One difference. `first` and `second` are the numbers of the exchanges, from 1 (0: there is none); `said` is what was
    said, `a` and `b` the lines that differ, `times` how many seconds the last answer took in each."""

    kind: Kind
    first: int
    second: int
    said: str
    a: str = ""
    b: str = ""
    times: tuple[float, float] | None = None


class TraceComparison(msgspec.Struct):
    """All differences, the first one first, how many exchanges each trace has and how many are the same in both."""

    first: int
    second: int
    same: int
    differences: list[Difference] = []


Pair = tuple[int | None, int | None]


def compare(a: Sequence[RecordedExchange], b: Sequence[RecordedExchange], *, times: bool = False) -> TraceComparison:
    """Compares two traces; `times`: also how long the answers took."""
    made = TraceComparison(len(a), len(b), 0)
    for first, second in _aligned([_key(one) for one in a], [_key(one) for one in b]):
        if first is None or second is None:
            own, at = (b, second) if first is None else (a, first)
            assert at is not None
            kind = Kind.ONLY_SECOND if first is None else Kind.ONLY_FIRST
            made.differences.append(Difference(kind, _number(first), _number(second), own[at].said or ""))
            continue
        found = _difference(a[first], b[second], first, second, times)
        if found:
            made.differences.append(found)
        else:
            made.same += 1
    _mark_order(made.differences)
    return made


def _key(one: RecordedExchange) -> tuple[str | None, bool]:
    return one.said, one.exact


def _number(at: int | None) -> int:
    return 0 if at is None else at + 1


def _aligned(a: Sequence[object], b: Sequence[object]) -> list[Pair]:
    """Pairs of places that belong together; None where one trace has nothing for the other's."""
    pairs: list[Pair] = []
    i = j = 0
    while i < len(a) and j < len(b):
        if a[i] == b[j]:
            pairs.append((i, j))
            i, j = i + 1, j + 1
            continue
        skip, other = _agree_again(a, b, i, j)
        together = min(skip, other)
        pairs += [(i + step, j + step) for step in range(together)]
        pairs += [(i + step, None) for step in range(together, skip)]
        pairs += [(None, j + step) for step in range(together, other)]
        i, j = i + skip, j + other
    pairs += [(at, None) for at in range(i, len(a))]
    pairs += [(None, at) for at in range(j, len(b))]
    return pairs


def _agree_again(a: Sequence[object], b: Sequence[object], i: int, j: int) -> tuple[int, int]:
    """How many of each to step over until they agree again; one of each where that is too far away."""
    for far in range(1, AHEAD):
        for skip in range(far + 1):
            x, y = i + skip, j + far - skip
            if x >= len(a) or y >= len(b) or a[x] != b[y]:
                continue
            after_x, after_y = x + 1, y + 1
            ends = after_x >= len(a) or after_y >= len(b)
            if ends or a[after_x] == b[after_y]:
                return skip, far - skip
    return 1, 1


def _difference(a: RecordedExchange, b: RecordedExchange, first: int, second: int, times: bool) -> Difference | None:
    """How two exchanges that belong together differ; None if they do not."""
    one, two = _number(first), _number(second)
    if _key(a) != _key(b):
        return Difference(Kind.SAID, one, two, a.said or "", a.said or "", b.said or "")
    heard = [text for _, text, _ in a.heard], [text for _, text, _ in b.heard]
    if heard[0] != heard[1]:
        at = next((at for at, (x, y) in enumerate(zip(*heard, strict=False)) if x != y), min(map(len, heard)))
        x, y = (texts[at] if at < len(texts) else "" for texts in heard)
        return Difference(Kind.HEARD, one, two, a.said or "", x, y)
    took = (a.heard[-1][0] if a.heard else 0.0, b.heard[-1][0] if b.heard else 0.0)
    short, long = sorted(took)
    if times and long > short + LONGER and long > TIMES * short:
        return Difference(Kind.TIME, one, two, a.said or "", times=took)
    return None


def _mark_order(differences: list[Difference]) -> None:
    """What is missing here and there too much elsewhere was said in another order."""
    spare: dict[str, list[Difference]] = {}
    for one in differences:
        if one.kind is Kind.ONLY_SECOND:
            spare.setdefault(one.said, []).append(one)
    for one in list(differences):
        if one.kind is Kind.ONLY_FIRST and spare.get(one.said):
            other = spare[one.said].pop(0)
            one.kind, one.second = Kind.ORDER, other.second
            differences.remove(other)
    # Where several are exchanged with each other, each stands opposite to another one.
    opposite: dict[str, list[Difference]] = {}
    for one in differences:
        if one.kind is Kind.SAID:
            opposite.setdefault(one.b, []).append(one)
    moved = [
        (one, opposite[one.a].pop(0).second) for one in differences if one.kind is Kind.SAID and opposite.get(one.a)
    ]
    for one, second in moved:
        one.kind, one.second, one.a, one.b = Kind.ORDER, second, "", ""


def apart(a: str, b: str) -> int:
    """The first place at which two texts differ."""
    return next((at for at, (x, y) in enumerate(zip(a, b, strict=False)) if x != y), min(len(a), len(b)))
