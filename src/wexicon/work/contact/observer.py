"""Asks a module harmless questions and notes in the ledger what came of each; overhears what comes unasked.

The rule: a question was answered, met with silence, or neither; silence means that not one byte came.
"""

from __future__ import annotations

from collections.abc import Callable

from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.protocol.observations import Heard, Role
from wexicon.core.protocol.patterns import Pattern
from wexicon.core.protocol.reply import Reply
from wexicon.core.protocol.session import Session
from wexicon.core.tuning import Tuning
from wexicon.work.contact.ledger import LONGER, Answered, Ledger, Ready, Silent, Spoke, Stray

# The shortest time that is waited for an answer while it is watched whether a module goes on answering (seconds).
QUICK_LOOK = 0.02


def is_ready_text(ready: Pattern, text: str) -> bool:
    """Whether a line is the ready text. Bytes sent before at another rate may precede it on the same line."""
    whole = ready.source == ready.start
    return ready.match(text) is not None or (whole and text.endswith(ready.source))


class Observer:
    """The observations of one session; `answered_at` is the link at which the module answered last."""

    def __init__(self, session: Session, lexicon: Lexicon) -> None:
        self.session = session
        self.lexicon = lexicon
        self.ledger = Ledger()
        self.answered_at: Tuning | None = None
        self._received = session.received
        session.overheard = self.overheard

    def observed(self, ask: Callable[[], Reply]) -> Reply:
        """Asks something harmless, and notes whether it was answered, met with silence, or neither."""
        session, ledger = self.session, self.ledger
        self.catch_up()
        began = session.clock.now()
        before, on_wire = session.received, session.on_wire
        outcome = ask()
        now, mode = session.clock.now(), str(session.link.tuning)
        if outcome.ok:
            ledger.note(Answered(now, mode, max(0.0, outcome.waited - (session.on_wire - on_wire))))
            self.answered_at = session.link.tuning
        elif session.received == before:
            ledger.note(Silent(began, mode, now))
        else:
            ledger.note(Spoke(now))
        self._received = session.received
        return outcome

    def catch_up(self) -> None:
        """Notes that bytes came since the last question."""
        if self.session.received != self._received:
            self._received = self.session.received
            self.ledger.note(Spoke(self.session.clock.now()))

    def overheard(self, line: Heard) -> None:
        """Notes a line that no open question asked for: a ready text, or an answer that may be a late one."""
        ready = self.lexicon.start.ready
        probe = self.lexicon.attention.probe.expect
        if ready is not None and is_ready_text(ready, line.text):
            self.ledger.note(Ready(line.at))
        elif line.role is Role.UNEXPECTED or any(want.pattern.match(line.text) is not None for want in probe.wants):
            self.ledger.note(Stray(line.at))

    def quick_look(self) -> float:
        """The shortest wait that shows that a module does not answer: longer than for any answer so far, and the time on the
        wire."""
        return max(QUICK_LOOK, LONGER * self.ledger.slowest()) + self.session.link.tuning.wire_time(16)
