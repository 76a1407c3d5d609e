"""One engine and the exchange that is open on it, driven by hand: bytes and time in, observations out."""

from __future__ import annotations

from collections.abc import Mapping

from wexicon.core.protocol.dialect import OK, Dialect, Expectation, Reply
from wexicon.core.protocol.engine import Engine
from wexicon.core.protocol.exchange import Exchange, State
from wexicon.core.protocol.observations import Heard
from wexicon.core.protocol.patterns import Pattern
from wexicon.core.protocol.speech import Speech


class Talk:
    """`heard` is everything that came in, told apart."""

    def __init__(self, speech: Speech, events: Mapping[str, Pattern] | None = None) -> None:
        self.dialect = Dialect(speech, events)
        self.engine = Engine(self.dialect)
        self.heard: list[Heard] = []

    def begin(
        self, text: str, expect: Expectation = OK, now: float = 0.0, *, limit: float = 1.0, exact: bool = False
    ) -> bytes:
        made = Exchange(self.dialect, text, expect, now, now + limit)
        self.engine.begin(made, text)
        self.exchange = made
        return self.dialect.encode(text, exact=exact)

    def feed(self, data: bytes, now: float) -> None:
        self.heard += self.engine.feed(data, now)

    def elapse(self, now: float) -> None:
        self.heard += self.engine.elapse(now)

    @property
    def outcome(self) -> Reply | None:
        return self.exchange.outcome if self.exchange.state is State.ENDED else None

    def roles(self) -> list[str]:
        return [str(seen.role) for seen in self.heard]
