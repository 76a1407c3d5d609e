"""Where values go in a recorded session: which line said what the answer to a question had afterwards, and not before.

The rule: the value is the same text, or the same digits and letters in another writing; where neither is so, the line and the
question must share a word that no other line has.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from itertools import pairwise

import msgspec

from wexicon.core.tuning import Tuning

TOKEN = re.compile(r'"(?:[^"\\]|\\.)*"|[^\s,;="]+')


class TraceTurn(msgspec.Struct):
    """One line that was said and the lines that answered it, without echo and result; `number` is its place in the session."""

    number: int
    said: str
    body: list[str]
    result: str
    tuning: Tuning


# A line that writes, the question and the line of its answer that changed, and the place of the value in both.
Flow = tuple[TraceTurn, TraceTurn, "Spot", "Spot"]


class Spot(msgspec.Struct, frozen=True):
    """A part of a line: the text before it, itself, and behind it."""

    before: str
    text: str
    behind: str

    @property
    def bare(self) -> str:
        """The part without quotes, digits and letters only."""
        return re.sub(r"[^0-9A-Za-z]", "", self.text).upper()


def _places(line: str) -> list[Spot]:
    """Every part of a line that may be a value: its tokens, and all behind the first blank or equals sign."""
    found = [Spot(line[: one.start()], one[0], line[one.end() :]) for one in TOKEN.finditer(line)]
    for one in re.finditer(r"[=: ]\s*", line):
        if one.end() < len(line):
            found.append(Spot(line[: one.end()], line[one.end() :], ""))
    found.append(Spot("", line, ""))
    return [_unquoted(one) for one in dict.fromkeys(found)]


def _unquoted(place: Spot) -> Spot:
    if len(place.text) > 1 and place.text[0] == place.text[-1] == '"':
        return Spot(place.before + '"', place.text[1:-1], '"' + place.behind)
    return place


def _changes(before: str, after: str) -> tuple[list[Spot], list[Spot]]:
    """The parts of a line that changed: single tokens, if there are as many as before; and the texts up to its end, the longest
    first."""
    old, new = ([*TOKEN.finditer(line)] for line in (before, after))
    found: list[Spot] = []
    if len(old) == len(new):
        changed = [two for one, two in zip(old, new, strict=True) if one[0] != two[0]]
        found = [_unquoted(Spot(after[: one.start()], one[0], after[one.end() :])) for one in changed]
    same = 0
    while same < min(len(before), len(after)) and before[same] == after[same]:
        same += 1
    tails = [one for one in _places(after) if not one.behind.strip('"') and len(one.before) <= max(same, 1) + 40]
    tails = [one for one in tails if one.before.strip() or not re.search("[ =]", after)]
    # Nearest to where the lines part, and never behind it.
    tails.sort(
        key=lambda one: (len(one.before) > same, -len(one.before) if len(one.before) <= same else -len(one.text))
    )
    return tuple([one for one in some if one.before or not re.search("[ =]", after)] for some in (found, tails))  # type: ignore[return-value]


def flows_of(turns: Sequence[TraceTurn]) -> Iterator[Flow]:
    """The lines that wrote what an answer had afterwards and not before; where it was only asked afterwards, those that share a
    word with the question too."""
    asked: dict[str, list[TraceTurn]] = {}
    for turn in turns:
        if turn.body:
            asked.setdefault(turn.said, []).append(turn)
    for turn in turns:
        # Nothing but the success code: it was not set then.
        if turn.said in asked and not turn.body and turn.result:
            asked[turn.said].append(turn)
    for found in asked.values():
        found.sort(key=lambda turn: turn.number)
    taken: set[tuple[str, str]] = set()
    left: list[tuple[list[TraceTurn], TraceTurn, Spot]] = []
    for said, found in asked.items():
        for before, after in pairwise(found):
            if before.body == after.body:
                continue
            writes = [
                turn
                for turn in turns[before.number + 1 : after.number]
                if turn.said not in asked or len(asked[turn.said]) == 1
            ]
            for index, line in enumerate(after.body):
                old = before.body[index] if index < len(before.body) else ""
                if line == old:
                    continue
                read = msgspec.structs.replace(after, said=said, body=[line])
                if is_hex(line):
                    if hit_bytes := _bytes_of(writes, old, line):
                        yield hit_bytes[0], read, *hit_bytes[1:]
                    continue
                tokens, tails = _changes(old, line)
                hits = [hit for place in tokens if (hit := _hit(writes, place, taken))]
                if not hits:
                    hits = [hit for place in tails if (hit := _hit(writes, place, taken))][:1]
                for turn, said_as, heard in hits:
                    taken.add((turn.said, said_as.before))
                    yield turn, read, said_as, heard
                if not hits:
                    left += [(writes, read, place) for place in (*tokens, *tails)[:1]]
    # What is said as one code and heard as another is known by its name alone.
    for writes, read, place in left:
        free = [turn for turn in writes if not any(said == turn.said for said, _ in taken)]
        if named := _by_name(free, read, place):
            taken.add((named[0].said, named[1].before))
            yield named[0], read, *named[1:]
    for said, found in asked.items():
        if len(found) > 1 or len(found[0].body) != 1 or is_hex(found[0].body[0]):
            continue
        writes = [
            turn for turn in turns[: found[0].number] if turn.said not in asked and _words(said) & _words(turn.said)
        ]
        places = sorted(_places(found[0].body[0]), key=lambda place: -len(place.text))
        hits = [hit for place in places if place.before and (hit := _hit(writes, place, taken))]
        for turn, said_as, heard in [hit for hit in hits if _words(said) & _words(hit[1].before)][:1]:
            taken.add((turn.said, said_as.before))
            yield turn, found[0], said_as, heard


def is_hex(line: str) -> bool:
    return len(line) >= 6 and len(line) % 2 == 0 and re.fullmatch("[0-9A-F]+", line) is not None


def _bytes_of(writes: Sequence[TraceTurn], old: str, new: str) -> tuple[TraceTurn, Spot, Spot] | None:
    """The line whose last bytes are those that an answer of bytes ends with now and did not before."""
    for turn in reversed(writes):
        said = "".join(turn.said.split()).upper()
        size = 0
        while size + 2 < min(len(said), len(new)) and said[len(said) - size - 2 :] == new[len(new) - size - 2 :]:
            size += 2
        if (
            size
            and (len(old) != len(new) or old[len(new) - size :] != new[len(new) - size :])
            and old[: -size or None] == new[:-size]
        ):
            return turn, Spot(said[:-size], said[-size:], ""), Spot(new[:-size], new[-size:], "")
    return None


def _words(text: str) -> set[str]:
    return {word.upper() for word in re.findall(r"[A-Za-z]+", text)} - {"AT", "SET", "GET", "PUT"}


def _by_name(writes: Sequence[TraceTurn], read: TraceTurn, heard: Spot) -> tuple[TraceTurn, Spot, Spot] | None:
    """The only line that has a word of the question, or of the answer in front of its value."""
    words = _words(read.said) | _words(heard.before)
    fits: list[tuple[TraceTurn, Spot]] = []
    for turn in dict.fromkeys(turn.said for turn in writes):
        one = next(one for one in writes if one.said == turn)
        parts = [part for part in _places(turn) if part.before and not part.behind and words & _words(part.before)]
        if parts:
            fits.append((one, max(parts, key=lambda part: len(part.text))))
    if len(fits) != 1 or not heard.text:
        return None
    whole = [place for place in _places(read.body[0]) if place.before and not place.behind] or [heard]
    return fits[0][0], fits[0][1], max(whole, key=lambda place: len(place.text))


def _hit(writes: Sequence[TraceTurn], heard: Spot, taken: set[tuple[str, str]]) -> tuple[TraceTurn, Spot, Spot] | None:
    """The last line that said what was heard, and was not taken for something else."""
    for turn in reversed(writes):
        for one in _said_as(turn.said, heard):
            if (turn.said, one.before) not in taken:
                return turn, one, heard
    return None


def _said_as(said: str, heard: Spot) -> Iterator[Spot]:
    """Where a line says what was heard: the same text, or the same digits and letters in another writing."""
    if not heard.text:
        return
    parts = _places(said)
    yield from (one for one in parts if one.text == heard.text and one.before)
    if len(heard.bare) >= 6:
        yield from (one for one in parts if one.bare == heard.bare and one.before)
    # Something that the module appends.
    yield from (one for one in parts if len(one.text) >= 4 and heard.text.startswith(one.text) and one.before)
