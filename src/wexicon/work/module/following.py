"""Where a module's link is: our side follows the writes that move it, at once or with a later action.

The rule: the new rate is proved by an answer before anything else is said at it; where our port cannot go, nothing is written.
Behind a pass-through board the operator changes the board.
"""

from __future__ import annotations

from collections.abc import Callable, Collection

import msgspec

from wexicon.core.faults import CannotTune
from wexicon.core.formats.lexicon import Lexicon, Moves, Setting
from wexicon.core.module_state.state import Fact, ModuleState
from wexicon.core.operator import Operator
from wexicon.core.protocol.session import Session
from wexicon.core.tuning import USUAL_RATES, Tuning
from wexicon.core.values import UNSET, StationKind, Value
from wexicon.work.contact.attention import Attention
from wexicon.work.contact.ledger import LEAST_UNANSWERED

# How often an action that makes settings persist is done again when something else was heard meanwhile.
MOST_TIMES = 3
CUT = "the answer stopped in the middle of a line"


class LinkFollower:
    """A module as far as its link goes. Where it is, and what has yet to count, is in its `state`."""

    def __init__(self, session: Session, lexicon: Lexicon, operator: Operator, attention: Attention) -> None:
        self.session, self.lexicon, self.operator, self.attention = session, lexicon, operator, attention
        attention.gained = self._gained
        known = session.known
        if not isinstance(known, ModuleState) or known.lexicon is not lexicon:
            known = session.known = ModuleState(lexicon, session.link.tuning)
        # What is known of the module now.
        self.state = known
        # A link at which it answers while it does not at another rate, or with another parity.
        self._only_at: tuple[Tuning, bool] | None = None

    @property
    def data_link(self) -> Tuning:
        """How its data mode is tuned, as far as known."""
        return self.state.data_link.value if self.state.data_link else self.lexicon.factory

    def only_here(self, *, frame: bool = False) -> bool:
        """Whether the module answers on this link and not at another rate, or, of a `frame`, not with another parity: the link
        tells nothing of one that follows any."""
        session, here = self.session, self.session.link.tuning
        if session.fixed:
            return False
        if self._only_at != (here, frame):
            rates = (*self.lexicon.rates(), *USUAL_RATES)
            other = msgspec.structs.replace(here, rate=next(rate for rate in rates if rate != here.rate))
            if frame:
                other = msgspec.structs.replace(here, parity="O" if here.parity == "E" else "E")
            anomalies, outstanding = session.anomalies, session.outstanding
            noted = len(self.attention.ledger.entries)
            session.tune(other)
            # The first line there may be lost, and be answered the next time.
            elsewhere = any(self._answers_quickly() for _ in range(LEAST_UNANSWERED))
            session.tune(here)
            # What it heard of us at the other rate must not spoil the next line.
            session.quiet(session.dialect.window)
            session.send(session.dialect.line_end.encode())
            session.wait_until_quiet(0.05, 0.5)
            # What came of that puts no other answer in doubt.
            session.anomalies, session.outstanding = anomalies, outstanding
            self.attention.ledger.forget_strays(noted)
            self._only_at = (here, frame) if self.attention.answers_at(here) and not elsewhere else None
        return self._only_at == (here, frame)

    def _answers_quickly(self) -> bool:
        return self.attention.ask(self.lexicon.attention.probe, self.attention.observer.quick_look()).ok

    def _gained(self, link: Tuning) -> None:
        self._only_at = None
        if not self.lexicon.attention.tuning and not self.session.fixed:
            self.state.data_link = Fact(link, self.session.clock.now(), "it answered there")

    def can_follow(self, setting: Setting, value: Value) -> None:
        """Tries whether our port can go where this value will move the link. Raises CannotTune, with nothing written."""
        if not setting.moves_link or value is UNSET:
            return
        if self.session.fixed:
            self._leave_board(setting, value)
            return
        if self.lexicon.attention.tuning:
            return
        before = self.session.link.tuning
        wanted = setting.kind.apply_to(before, value)
        try:
            self.session.tune(wanted)
        except CannotTune as fault:
            hint = f"{setting.name} was not written: the module could not be reached there. Use another adapter."
            raise CannotTune(fault.what, where=fault.where, hint=hint) from None
        self.session.tune(before)

    def board_told(self, setting: Setting, value: Value) -> str:
        """What a write means behind a pass-through board, for plan and operator."""
        link = setting.kind.apply_to(self.data_link, value)
        when = "" if setting.moves_link is Moves.AT_ONCE else f" with the next {setting.moves_link}"
        return (
            f"Writing {setting.name} moves the module to {link}{when}; the pass-through board and the module lose contact "
            f"until the board's side towards the module is at {link} too. Its side towards this port stays at "
            f"{self.session.fixed}."
        )

    def _leave_board(self, setting: Setting, value: Value) -> None:
        """Before a write that the board does not follow: the operator agrees. Raises ModuleFault if there is none."""
        text = f"{self.board_told(setting, value)} Press Enter to write it."
        self.session.asked("confirm", text)
        self.operator.confirm("confirm", text, self._wait_until)

    def _find_through_board(self) -> None:
        """The module has moved: the operator changes the board, and then it answers through it. Raises Unreachable."""
        link, fixed = self.data_link, self.session.fixed
        assert fixed
        act = f"board {link}"
        text = f"Change the board's side towards the module to {link}; its side towards this port stays at {fixed}. "
        self.session.asked(act, text)
        self.operator.confirm(act, f"{text}Then press Enter.", self._wait_until)
        if self.attention.held and not self.attention.answers_at(fixed):
            self.attention.gain([fixed])

    def _wait_until(self, done: Callable[[], bool]) -> None:
        while not done():
            self.session.listen(self.session.clock.now() + 0.1, done)

    def moved(self, setting: Setting, value: Value) -> None:
        """A setting was written that moves the link: at once, or with some later action."""
        if setting.moves_link:
            self.state.moves(setting, value, self.session.clock.now(), f"{setting.name} was written")
        if setting.moves_link is Moves.AT_ONCE:
            self.follow(setting)

    def follow(self, setting: Setting) -> None:
        """Goes where the link went, unless command mode has a rate of its own. The new rate is proved by an answer before
        anything else is said at it."""
        if isinstance(setting.kind, StationKind):
            # It goes by another number now, however the port was named.
            self.session.bound = None
        if self.session.fixed:
            self._find_through_board()
            return
        if not self.lexicon.attention.tuning:
            before = self.session.link.tuning
            wanted = self.data_link
            if setting.moves_after:
                self.session.quiet(setting.moves_after)
            self.session.tune(wanted)
            if wanted != before and self.attention.held:
                self.attention.prove([wanted, before])

    def expected_links(self) -> list[Tuning]:
        """Where the module may answer next, the likeliest first."""
        own = self.session.fixed or self.lexicon.attention.tuning
        return [own] if own else list(dict.fromkeys([self.data_link, self.session.link.tuning]))

    def _follow(self, before: Collection[str]) -> None:
        """Follows what was pending `before` and counts now."""
        for name in before:
            if name not in self.state.pending:
                self.follow(self.lexicon.settings[name])
