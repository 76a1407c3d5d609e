"""The conversations of one window: one, or two side by side.

The rule: a line that begins with a side's name and a colon is for that side; any other is for the side that has the turn.
"""

from __future__ import annotations

from collections.abc import Sequence

from wexicon.core.faults import CallFault
from wexicon.core.formats.lexicon import Lexicon
from wexicon.work.console.conversation import Talk

MOST = 2


def named_ports(words: Sequence[str]) -> list[tuple[str, str]]:
    """Names and ports of `PORT`, `PORT PORT`, or `NAME=PORT NAME=PORT`. One port has no name. Raises CallFault."""
    if not 1 <= len(words) <= MOST:
        raise CallFault("one port is talked to, or two", hint="wexicon talk A B, or NAME=A NAME=B.")
    pairs = []
    for word in words:
        name, equals, port = word.partition("=")
        given = bool(equals) and name.replace("-", "_").isidentifier()
        pairs.append((name, port) if given else (word.rstrip("/").rpartition("/")[2], word))
    if len(pairs) == 1:
        return [("", pairs[0][1])]
    if pairs[0][0] == pairs[1][0]:
        pairs = [(f"{name}-{number}", port) for number, (name, port) in enumerate(pairs, 1)]
    if pairs[0][1] == pairs[1][1]:
        raise CallFault("both sides are the same port")
    return pairs


class Sides:
    """The conversations, and which of them has the turn."""

    def __init__(self, talks: Sequence[Talk]) -> None:
        self.talks = list(talks)
        self._at = 0

    @property
    def now(self) -> Talk:
        """The side that has the turn."""
        return self.talks[self._at]

    @property
    def lexicon(self) -> Lexicon | None:
        """The lexicon of the side that has the turn."""
        return self.now.lexicon

    def turn(self) -> None:
        """Gives the turn to the other side."""
        self._at = (self._at + 1) % len(self.talks)

    def addressed(self, text: str) -> tuple[Talk, str]:
        """For which side a typed line is, and the line itself."""
        if len(self.talks) > 1:
            name, colon, rest = text.partition(":")
            for talk in self.talks:
                if colon and talk.name == name:
                    return talk, rest.removeprefix(" ")
        return self.now, text

    def put(self, text: str, *, exact: bool = False) -> None:
        """Takes a typed line. A name alone gives the turn to its side."""
        talk, line = self.addressed(text)
        if talk is not self.now and not line:
            self._at = self.talks.index(talk)
        elif line or talk is self.now:
            talk.put(line, exact=exact)

    def put_in_order(self, text: str) -> None:
        """Takes a line of a pipe: the side that it is for keeps the turn, and it is said when the one before was answered."""
        talk, line = self.addressed(text)
        if talk is not self.now:
            self.now.settle()
            self._at = self.talks.index(talk)
        talk.put(line)

    def abandon(self) -> int:
        """Says no more of what was typed. How many lines were not said."""
        return sum(talk.abandon() for talk in self.talks)

    def end(self) -> None:
        """Ends when what was typed has been said."""
        for talk in self.talks:
            talk.end()

    @property
    def failures(self) -> int:
        """How many lines were answered with an error, or not at all."""
        return sum(talk.failures for talk in self.talks)

    @property
    def ended(self) -> bool:
        """Whether one of them was ended."""
        return any(talk.ending for talk in self.talks)
