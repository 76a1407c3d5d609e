"""What was observed of a module in one run, in order, and the evidence that follows from it; the observer asks harmless
questions and notes what came of each.

The rule: evidence comes from nowhere else. A command, a pin that was driven and an operator who was asked prove nothing; only
what the module did, or did not do, afterwards. Silence means that not one byte came. `evidence_of` is a pure function of the
entries.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from enum import StrEnum

import msgspec

from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.module_state.state import ModuleState
from wexicon.core.protocol.dialect import Reply
from wexicon.core.protocol.observations import Heard, Role
from wexicon.core.protocol.session import Session
from wexicon.core.results.result import Evidence
from wexicon.core.tuning import Tuning

# Single questions or answers may be lost on the wire: silence is believed if this many in a row are not answered; while a
# person is waited for, who may take long, one more.
LEAST_UNANSWERED = 3
# An answer may take longer than any before it: silence must last longer than the slowest one by this factor.
LONGER = 1.5
# The shortest time for which a person takes power away (seconds). Many questions are asked while a person is waited for, and
# shorter silences happen among them by chance.
LEAST_WITHOUT_POWER = 0.4


class LedgerEntry(msgspec.Struct, frozen=True, tag=True):
    """Something that was observed at a time (seconds, on the session's clock)."""

    at: float


class Answered(LedgerEntry, frozen=True, tag=True):
    """A harmless question was answered in this mode; `took` are the seconds from its end to the end of the answer, less those
    on the wire."""

    mode: str
    took: float


class Silent(LedgerEntry, frozen=True, tag=True):
    """A harmless question was said in this mode, and not one byte came until the time `until`."""

    mode: str
    until: float


class Spoke(LedgerEntry, frozen=True, tag=True):
    """Bytes came that are no answer: an error, garbage, an event, half a line."""


class Stray(LedgerEntry, frozen=True, tag=True):
    """An answer came that no open question asked for: it may be a late one."""


class Ready(LedgerEntry, frozen=True, tag=True):
    """The module sent what it says as it starts, or once it listens after that."""


class PowerOff(LedgerEntry, frozen=True, tag=True):
    """A fixture or a rig was told to switch the power off; `needed` if the module cannot get back to this mode without that."""

    needed: bool = False


class PowerOn(LedgerEntry, frozen=True, tag=True):
    """A fixture or a rig was told to switch the power on."""


class CycleAsked(LedgerEntry, frozen=True, tag=True):
    """The operator was asked for a power cycle; `needed` if the module cannot get back to this mode without one."""

    needed: bool = False


class Ordered(LedgerEntry, frozen=True, tag=True):
    """The module acknowledged a command to restart, which was given at this time."""


class Left(LedgerEntry, frozen=True, tag=True):
    """Command mode was left by a command, or timed out: silence is expected."""


class Planted(LedgerEntry, frozen=True, tag=True):
    """The witness was given a value that was not saved."""


class Undone(LedgerEntry, frozen=True, tag=True):
    """The witness no longer has its unsaved value."""


class Stayed(LedgerEntry, frozen=True, tag=True):
    """The witness still has its unsaved value."""


class Written(LedgerEntry, frozen=True, tag=True):
    """A setting was written, or an action was done that makes settings persist."""


class AllRead(LedgerEntry, frozen=True, tag=True):
    """All wanted settings were read."""


class Sign(StrEnum):
    """What showed that a module started: its ready text; silence, and then an answer; the same while its power was off; an
    unsaved change that is gone."""

    READY = "ready text"
    SILENCE = "silence"
    POWER = "silence without power"
    WITNESS = "unsaved change gone"


class Ledger:
    """The entries of one run."""

    def __init__(self) -> None:
        self.entries: list[LedgerEntry] = []

    def note(self, entry: LedgerEntry) -> None:
        """Adds an entry."""
        self.entries.append(entry)

    def forget_strays(self, since: int) -> None:
        """What came since the index answers what we said at a wrong rate, and is no late answer."""
        self.entries[since:] = [one for one in self.entries[since:] if not isinstance(one, Stray)]

    def slowest(self) -> float:
        """The slowest answer to a harmless question so far, in seconds."""
        return slowest(self.entries)

    def any_late(self) -> bool:
        """Whether an answer came that may have been a late one."""
        return any(isinstance(entry, Stray) for entry in self.entries)

    def just_answered(self, mode: str) -> bool:
        """Whether the last thing that came of the module in this mode was an answer."""
        for entry in reversed(self.entries):
            match entry:
                case Answered():
                    return entry.mode == mode
                case Silent() | Left() | PowerOff():
                    return False
        return False

    def signs(self, since: int) -> set[Sign]:
        """The signs of a start among the entries from the index `since` on."""
        return set(signs(self.entries, since, len(self.entries)))

    def evidence(self, *, reloads: bool, announced: bool = False) -> Evidence:
        """The evidence for the last reading."""
        return evidence_of(self.entries, reloads=reloads, announced=announced)

    def starts(self) -> int:
        """How many starts were observed since the last write, with a reading after each."""
        return starts_read(self.entries)


def slowest(entries: Sequence[LedgerEntry]) -> float:
    """The slowest answer among the entries, in seconds."""
    return max((entry.took for entry in entries if isinstance(entry, Answered)), default=0.0)


def evidence_of(entries: Sequence[LedgerEntry], *, reloads: bool, announced: bool = False) -> Evidence:
    """The evidence for the last reading of all settings: what was observed between the last write and it. `reloads` is whether
    a restart of this family is known to load the saved values; `announced` whether each start of this module is heard by its
    ready text: then a silence without that was none."""
    read = _last(entries, AllRead)
    written = _last(entries, Written)
    if read < 0 or written > read:
        return Evidence.NONE
    found = set(signs(entries, written + 1, read))
    if announced and Sign.READY not in found:
        found &= {Sign.WITNESS}
    if Sign.POWER in found:
        return Evidence.POWER
    if Sign.WITNESS in found or (found and reloads):
        return Evidence.RESTART
    return Evidence.WARM if found else Evidence.READING


def starts_read(entries: Sequence[LedgerEntry]) -> int:
    """How many starts were observed since the last write, with a reading of all settings after each."""
    count, first = 0, _last(entries, Written) + 1
    for index in range(first, len(entries)):
        if isinstance(entries[index], AllRead):
            count += any(True for _ in signs(entries, first, index))
            first = index + 1
    return count


def _last(entries: Sequence[LedgerEntry], kind: type[LedgerEntry]) -> int:
    return next((at for at in range(len(entries) - 1, -1, -1) if isinstance(entries[at], kind)), -1)


def signs(entries: Sequence[LedgerEntry], first: int, end: int) -> Iterator[Sign]:
    """The signs of a start among entries[first:end]."""
    some = entries[first:end]
    if _ready(entries, first, end):
        yield Sign.READY
    if _last(some, Undone) > _last(some, Stayed):
        yield Sign.WITNESS
    # A module whose unsaved change stayed once is silent for another reason, later too.
    before = entries[:end]
    yield from _silences(entries, first, end, stayed=_last(before, Stayed) > _last(before, Undone))


# Entries after which a start, and so a ready text, is expected.
_ORDERS = (Ordered, PowerOff, PowerOn, CycleAsked)


def _ready(entries: Sequence[LedgerEntry], first: int, end: int) -> bool:
    """Whether a ready text among entries[first:end] shows a start: one was ordered there before it, and it is not the late
    text of a start that was ordered earlier."""
    heard = [entry.at for entry in entries[:end] if isinstance(entry, Ready)]
    earlier = [entry.at for entry in entries[:first] if isinstance(entry, _ORDERS)]
    own = [entry.at for entry in entries[first:end] if isinstance(entry, _ORDERS)]
    if not own:
        return False
    owed = bool(earlier) and not any(earlier[-1] <= at < own[0] for at in heard)
    return sum(at >= own[0] for at in heard) > owed


class Silences:
    """Finds unbroken silences of a module that had answered in the same mode just before, while entries are fed to it in order.
    Each ends with an answer."""

    def __init__(self) -> None:
        self.before: Answered | None = None
        self.run: list[Silent] = []
        # Something came after a silence that was long enough.
        self.over = False
        # The power is off by our fixture or rig; it was off meanwhile, and the module was silent then.
        self.off = self.without_power = False
        # A restart was ordered, or a power cycle asked for, and no start was observed since: other silences have other causes.
        self.expected = False
        # It was a power cycle by the operator of a module that had just answered; whether the mode cannot be had without one.
        self.asked = self.needed = False
        self.ordered = False
        # Whether the sign that came last cannot be a late answer: the mode cannot be had without a power cycle.
        self.certain = self._forced = False

    @property
    def length(self) -> float:
        """How long the silence has lasted, in seconds."""
        return self.run[-1].until - self.run[0].at if self.run else 0.0

    def lasts(self, limit: float) -> bool:
        """Whether it is a silence, if no late answer comes: enough questions went unanswered, for longer than `limit`."""
        return len(self.run) >= LEAST_UNANSWERED + (self.asked and not self.needed) and self.length > limit

    def by_person(self, until: float | None = None) -> bool:
        """Whether it is as long as a person's power cycle, who was asked for one. If the mode cannot be had without that, what
        else came meanwhile, until the time `until`, does not matter."""
        if self.needed and until is not None and self.run:
            return until - self.run[0].at > LEAST_WITHOUT_POWER
        return self.asked and self.length > LEAST_WITHOUT_POWER

    def feed(self, entry: LedgerEntry, limit: float) -> Sign | None:
        """Takes the next entry; gives the sign of a start that ends with it. `limit` in seconds."""
        match entry:
            case Silent():
                if self.before is not None and entry.mode == self.before.mode and not self.over:
                    self.run.append(entry)
            case PowerOff():
                self.off, self.expected, self.without_power = True, True, self.before is not None and not self.run
                self.run, self.over, self._forced = [], False, entry.needed
            case PowerOn():
                self.off, self.without_power = False, self.without_power and bool(self.run)
            case CycleAsked():
                # After a restart the module may be silent in this mode for another reason.
                self.expected, self.needed = True, entry.needed
                self.asked = entry.needed or not self.ordered
            case Ordered():
                self.ordered, self.expected, self.asked, self.needed = True, True, False, False
            case Answered():
                sign = None if self.off else self._ended(entry, limit)
                self.ordered = False
                if sign is not None:
                    self.expected = self.asked = self.needed = False
                self.before, self.run, self.over, self.without_power = entry, [], False, False
                return sign
            case Spoke() | Stray() | Ready():
                if self.off:
                    self.without_power = False
                # A module that starts may send something else before it answers.
                self.over = self.lasts(limit)
                if not self.over:
                    self.run = []
            case Written():
                self.run, self.over, self.expected = [], False, False
            case Left():
                self.before, self.run, self.over = None, [], False
        return None

    def _ended(self, answer: Answered, limit: float) -> Sign | None:
        if self.before is None:
            return None
        self.certain = self._forced if self.without_power else self.asked and self.needed
        if self.without_power:
            return Sign.POWER
        if not self.expected or not self.lasts(limit):
            return None
        if self.asked:
            # Many questions are asked while a person is waited for: a shorter silence is no sign.
            return Sign.POWER if self.by_person(answer.at) else None
        return Sign.SILENCE


def _silences(entries: Sequence[LedgerEntry], first: int, end: int, *, stayed: bool) -> Iterator[Sign]:
    """The silences that ended at index `first` or later. After a late answer none before it counts; nor does one of a module
    whose unsaved change stayed, unless its power was off."""
    found = Silences()
    limit = LONGER * slowest(entries[:end])
    late = _last(entries[:end], Stray)
    for index in range(end):
        sign = found.feed(entries[index], limit)
        if sign is None or index < first or (late > index and not found.certain) or (sign is Sign.SILENCE and stayed):
            continue
        yield sign


# The shortest time that is waited for an answer while it is watched whether a module goes on answering (seconds).
QUICK_LOOK = 0.02


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
        """Notes a line that no open question asked for: a start, or an answer that may be a late one."""
        probe, known = self.lexicon.attention.probe.expect, self.session.known
        if isinstance(known, ModuleState) and known.starts and known.starts[-1].at == line.at:
            self.ledger.note(Ready(line.at))
        elif line.role is Role.UNEXPECTED or any(want.pattern.match(line.text) is not None for want in probe.wants):
            self.ledger.note(Stray(line.at))

    def quick_look(self) -> float:
        """The shortest wait that shows that a module does not answer: longer than for any answer so far, and the time on the
        wire."""
        return max(QUICK_LOOK, LONGER * self.ledger.slowest()) + self.session.link.tuning.wire_time(16)
