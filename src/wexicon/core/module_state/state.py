"""What is known of a module now: one reducer over all that is said and heard, by us, by a person, or by a host behind a tap.

The rule: each part has its value, since when, and the observation that it rests on. What was not observed is unknown; nothing
is taken from an intention. A start, or another module, forgets what it may have changed.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from enum import StrEnum
from typing import Generic, TypeVar

import msgspec

from wexicon.core.formats.lexicon import Action, AttentionBy, Lexicon, Moves, Setting
from wexicon.core.module_state.forms import Does
from wexicon.core.module_state.reader import Part, Reader
from wexicon.core.module_state.starts import Start, StartWatch
from wexicon.core.protocol.dialect import ReplyStatus
from wexicon.core.protocol.insertion import Filled
from wexicon.core.protocol.observations import Heard, Observation, Role, Said, Tuned
from wexicon.core.results.functions import Told
from wexicon.core.text import counted, visible
from wexicon.core.tuning import Tuning
from wexicon.core.values import Value

T = TypeVar("T")
# How many starts are kept.
MOST_STARTS = 32
# What our own words are called in a reason, at most this much of them.
_SHORT = 40


class Mode(StrEnum):
    """What a module does with what it hears: takes it for commands, passes it on as data, or for a firmware image."""

    COMMAND = "command"
    DATA = "data"
    LOADER = "loader"


class Fact(msgspec.Struct, Generic[T], frozen=True):
    """Something that is known: its value, since when (seconds, on the link's clock), and the observation that it rests on."""

    value: T
    since: float
    by: str


class ModuleState:
    """The state of one module. `tuning` is our side's rate and frame, `link` the one at which it answered, `data_link` the one
    of its data mode; `unsaved` are settings that were written and are not saved, `pending` those that count only from a
    restart or on leaving command mode; `half` is what stands in the module's line without an end; `joined` whether a peer is
    there. Without a lexicon, starts are known by the words of `others`."""

    def __init__(
        self, lexicon: Lexicon | None, tuning: Tuning, others: Callable[[], Sequence[Lexicon]] = lambda: ()
    ) -> None:
        self.lexicon, self._others = lexicon, others
        self.reader = Reader(lexicon)
        self.tuning = tuning
        self.power: Fact[bool] | None = None
        self.mode: Fact[Mode] | None = None
        self.link: Fact[Tuning] | None = None
        self.data_link: Fact[Tuning] | None = None
        self.joined: Fact[bool] | None = None
        self.half: Fact[str] | None = None
        # What stood in the module's line in front of the last line that was said.
        self.in_front: Fact[str] | None = None
        self.unsaved: dict[str, Fact[str]] = {}
        self.pending: dict[str, Fact[Moves]] = {}
        self.starts: list[Start] = []
        # Settings that were written.
        self.wrote: set[str] = set()
        # When each action was acknowledged last (seconds).
        self.done_at: dict[str, float] = {}
        # Settings that were written and not saved before a start, or before a restart that was accepted.
        self.lost: dict[str, Fact[str]] = {}
        # The line whose answer may still come.
        self.owed: list[Fact[str]] = []
        self._watch = StartWatch((lambda: [lexicon]) if lexicon else others)
        self._open: tuple[Part, ...] = ()
        self._moves: dict[str, tuple[Setting, Value]] = {}
        self._said, self._said_at = "", 0.0
        # An answer that is complete, and that a success code may follow.
        self._answer: Heard | None = None
        # Whether what was said last may change something.
        self._changes = False

    # -- what is observed -----------------------------------------------------------------------------------------

    def said(self, text: str, *, exact: bool = False, guess: bool = True) -> Filled:
        """Reads what is about to be said; the line with what is secret in it. `note` is given when it was said."""
        found = self.reader.said(text, exact=exact, guess=guess)
        self.parts_of_next(self.reader.last)
        return found

    def parts_of_next(self, parts: tuple[Part, ...]) -> None:
        """Takes the parts of the next line, which was read already."""
        self.ended()
        self._open = parts
        self._changes = any(part.does not in (Does.ASKS, Does.UNKNOWN) for part in parts)

    def heard_part(self, text: str) -> None:
        """The module has sent the beginning of a line."""
        if text:
            self.reader.heard(text)
            if text.strip() == ">":
                self.reader.prompted()

    def note(self, seen: Observation) -> None:
        """Takes an observation of the session."""
        if (start := self._watch.note(seen)) is not None:
            self._start(start)
        elif isinstance(seen, Heard):
            self._heard(seen)
        elif isinstance(seen, Said):
            self._was_said(seen)
        elif isinstance(seen, Tuned):
            self._tuned(seen)

    def left_so(self, mode: str, *, joined: bool, at: float) -> None:
        """An earlier session left the module so."""
        by = "as the last session on this port ended"
        self.mode = Fact(Mode.DATA, at, by) if mode == Mode.DATA else None
        self.joined = Fact(True, at, by) if joined else None

    def another_module(self) -> None:
        """Another module is there now: nothing is known of it."""
        fresh = ModuleState(self.lexicon, self.tuning, self._others)
        self.__dict__.update(fresh.__dict__)

    # -- one observation ------------------------------------------------------------------------------------------

    def _was_said(self, seen: Said) -> None:
        self._said, self._said_at = _shortly(seen.text), seen.at
        away = self.link is not None and self.link.value.rate != self.tuning.rate
        if away or (seen.exact and seen.text and not seen.text.endswith(("\r", "\n")) and self.reader.payload is None):
            if not any(part.does in (Does.ESCAPES, Does.PAYLOAD) for part in self._open):
                where = f"said at {self.tuning.rate} baud" if away else "said without a line end"
                self.half = Fact(self._said, seen.at, where)
        elif seen.text.strip() or not seen.exact:
            # A line end alone only clears it.
            self.in_front = self.half if seen.text.strip() else None
            self.half = None
        if self._in_data():
            self._open = ()
        if seen.text.strip():
            self.owed = [Fact(self._said, seen.at, "not answered yet")]

    def _heard(self, seen: Heard) -> None:
        role = seen.role
        if role is Role.ECHO:
            return
        self.reader.heard(seen.text)
        if role in (Role.EVENT, Role.UNMATCHED, Role.CORRUPT):
            self._came_by_itself(seen)
            return
        if role is Role.PROMPT:
            self.reader.prompted()
            self.owed.clear()
            self._answers(seen)
            if self.lexicon and self.lexicon.speech.closing == "prompt" and self.reader.payload is None:
                self._taken(seen)
                self._open = ()
            return
        if role is Role.UNEXPECTED:
            self.owed.clear()
            self.reader.answered()
            return
        self._answers(seen)
        self._answered_by(seen)
        if (
            self._changes
            and role in (Role.ANSWER, Role.WORD)
            and self.lexicon
            and (final := self.lexicon.dialect.final(seen.text))
        ):
            # A dialogue may want the success code as its answer.
            role = Role.OK if final.status is ReplyStatus.OK else role
        if role is Role.OK:
            self._taken(seen)
        if role in (Role.OK, Role.ERROR):
            self._answer = None
            self.reader.answered()
            self._open = ()
            self.owed.clear()

    def _answers(self, seen: Heard) -> None:
        """It answered a line of ours as a module that takes commands does."""
        if self.mode and self.mode.value is Mode.COMMAND and self.link and self.link.value == self.tuning:
            return  # known since before
        by = f"it answered “{self._said}”" if self._said else "it answered"
        if self.joined and self.lexicon and self.lexicon.attention.passes_on:
            # While a peer is connected it takes no commands.
            self.joined = None
        self.mode = Fact(Mode.COMMAND, seen.at, by)
        self.link = Fact(self.tuning, seen.at, by)

    def _came_by_itself(self, seen: Heard) -> None:
        attention = self.lexicon.attention if self.lexicon else None
        by = f"it said “{_shortly(seen.text)}”"
        if attention and attention.ends_on and seen.name == attention.ends_on:
            self.joined, self.mode = Fact(True, seen.at, by), Fact(Mode.DATA, seen.at, by)
        elif self.lexicon and self._on_data_link() and seen.text.strip() in self.lexicon.start.says:
            # It says this in data mode to whatever is said there.
            self.mode = Fact(Mode.DATA, seen.at, by)

    def _answered_by(self, seen: Heard) -> None:
        """The answer that a line wants: a rate that it tells, or the end of an exchange without a success code."""
        for part in self._open if self.lexicon else ():
            assert self.lexicon
            setting = self.lexicon.settings.get(part.name)
            tells = part.does is Does.ASKS and setting is not None and bool(setting.kind.rates())
            ends = part.does in (Does.WRITES, Does.ACTS) and self.lexicon.speech.closing in ("alone", "either")
            may_follow = bool(self.lexicon.speech.ok) and self.lexicon.speech.closing == "either"
            wants = [one for one in part.form.expect.wants if not one.prompt] if part.form and (tells or ends) else []
            if ends and not wants and seen.role is Role.ANSWER:
                # It has a line of its own for it, which is no error.
                self._complete(seen, may_follow)
                return
            for want in wants:
                captures = want.pattern.match(seen.text)
                if captures is not None and tells and setting:
                    self._rate_told(setting, str(captures.get("value", "")), seen)
                elif captures is not None and ends and want is wants[-1]:
                    self._complete(seen, may_follow)
                    return

    def _complete(self, seen: Heard, may_follow: bool) -> None:
        """The answer is complete; a success code may follow, and before it nothing moves."""
        if may_follow:
            self._answer = seen
        else:
            self._taken(seen)
            self._open = ()

    def ended(self, *, answered: bool = False) -> None:
        """Nothing more of an answer is awaited; whether the line was answered."""
        if answered:
            self.owed.clear()
        seen, self._answer = self._answer, None
        if seen is not None:
            self._taken(seen)
            self._open = ()

    def _rate_told(self, setting: Setting, word: str, seen: Heard) -> None:
        """The module told the rate of its data mode."""
        try:
            value = setting.kind.check(setting.kind.decode(word))
        except ValueError:
            return
        if setting.name not in self._moves:
            self.data_link = Fact(
                setting.kind.apply_to(self.data_mode_link(), value), seen.at, f"it answered “{self._said}”"
            )

    def _taken(self, seen: Heard) -> None:
        """The module has acknowledged what was said."""
        for part in self._open:
            if part.does is Does.WRITES:
                self._written(part, seen.at)
            elif part.does is Does.ACTS and part.form and part.form.own and self.lexicon:
                self.done(self.lexicon.actions[part.name], seen.at)

    def _written(self, part: Part, at: float) -> None:
        assert self.lexicon
        by = f"“{_shortly(part.text)}” was accepted" if not part.secrets else "it was accepted"
        named = part.form.settings_named if part.form else list(part.values)
        self.wrote.update(named)
        for name in named:
            setting = self.lexicon.settings[name]
            shown = visible(setting.show(part.values[name])) if name in part.values else ""
            self.lost.pop(name, None)
            if self.lexicon.saves(setting):
                self.unsaved[name] = Fact(shown, at, by)
            if setting.moves_link and name in part.values:
                self.moves(setting, part.values[name], at, by)

    def moves(self, setting: Setting, value: Value, at: float, by: str) -> None:
        """A setting was written that moves the module's link, at once or with a later action."""
        if setting.moves_link is Moves.AT_ONCE:
            self._moved(setting, value, at, by)
        elif setting.moves_link:
            self._moves[setting.name] = (setting, value)
            self.pending[setting.name] = Fact(setting.moves_link, at, by)

    def done(self, action: Action, at: float) -> None:
        """An action was acknowledged."""
        assert self.lexicon
        self.done_at[action.name] = at
        by = f"{action.name} was accepted"
        for name in [name for name in self.unsaved if action.name in self.lexicon.settings[name].then]:
            del self.unsaved[name]
        moved = {Moves(action.name)} if action.name in ("save", "leave") else set()
        moved |= {Moves.LEAVE} if action.ends_attention and not action.restarts else set()
        self.move_due(moved, at, by)
        if action.resets:
            self.unsaved.clear()
            self.pending.clear()
            self._moves.clear()
            self.data_link = Fact(self._factory(), at, by)
        if action.loads:
            self.mode = Fact(Mode.LOADER, at, by)
        elif action.restarts:
            # What was saved counts now; what was not is gone once it has started, which may not be seen.
            self.move_due({Moves.RESTART, Moves.LEAVE}, at, by)
            self.lost |= self.unsaved
            self.unsaved.clear()
            self.mode = self.joined = None
        elif action.ends_attention:
            self.mode = Fact(Mode.DATA, at, by)
        if self.mode is None or self.mode.value is Mode.DATA:
            # In data mode it is on the link of data mode, as far as that is known.
            self.link = self.data_link

    def move_due(self, due: set[Moves], at: float, by: str) -> None:
        """What was written and counts only from one of these on moves the link now."""
        for name in [name for name, one in self.pending.items() if one.value in due]:
            setting, value = self._moves.pop(name)
            if name in self.unsaved and self.pending[name].value is not Moves.LEAVE:
                # It was not saved before: a restart forgets it.
                del self.pending[name]
                continue
            del self.pending[name]
            self._moved(setting, value, at, by)

    def _moved(self, setting: Setting, value: Value, at: float, by: str) -> None:
        own = self.lexicon.attention.tuning if self.lexicon else None
        self.data_link = Fact(setting.kind.apply_to(self.data_mode_link(), value), at, by)
        if own is None:
            self.link = self.data_link

    def _start(self, start: Start) -> None:
        """The module was seen to start."""
        self.starts = [*self.starts[-MOST_STARTS + 1 :], start]
        by = f"it said “{_shortly(start.text)}”"
        self.power = Fact(True, start.at, by)
        self.move_due({Moves.RESTART, Moves.LEAVE}, start.at, by)
        self.lost |= self.unsaved
        self.unsaved.clear()
        self.half = self.joined = None
        self.reader.payload = None
        self._open = ()
        self.owed.clear()
        attention = self.lexicon.attention if self.lexicon else None
        always = attention is not None and attention.how is AttentionBy.ALWAYS and not attention.tuning
        mode = Mode.COMMAND if always else Mode.DATA if self._on_data_link() else None
        self.mode = Fact(mode, start.at, by) if mode else None

    def _tuned(self, seen: Tuned) -> None:
        self.tuning = seen.tuning
        self.owed.clear()

    # -- what it means --------------------------------------------------------------------------------------------

    def _in_data(self) -> bool:
        return self.mode is not None and self.mode.value is Mode.DATA

    def _on_data_link(self) -> bool:
        """Whether our side is on the link of data mode, where command mode has one of its own."""
        own = self.lexicon.attention.tuning if self.lexicon else None
        return own is not None and self.tuning != own

    def data_mode_link(self) -> Tuning:
        """The link of data mode as far as known: ours, unless command mode has its own."""
        if self.data_link:
            return self.data_link.value
        own = self.lexicon.attention.tuning if self.lexicon else None
        return self.tuning if own is None else self._factory()

    def _factory(self) -> Tuning:
        return self.lexicon.factory if self.lexicon else self.tuning

    def told(self, now: float) -> list[Told]:
        """Every part that is known, in words, with how long ago it was observed and what it rests on."""
        return [Told(part, value, round(max(0.0, now - at), 3), by) for part, value, at, by in self._parts_told()]

    def _parts_told(self) -> Iterator[tuple[str, str, float, str]]:
        for name, fact in (("power", self.power), ("mode", self.mode), ("module's link", self.link)):
            if fact is not None:
                value = ("on" if fact.value else "off") if isinstance(fact.value, bool) else str(fact.value)
                yield (name, value, fact.since, fact.by)
        if self.starts:
            last = self.starts[-1]
            yield (
                "last start",
                f"{counted(len(self.starts), 'start')} seen",
                last.at,
                f"it said “{_shortly(last.text)}”",
            )
        if self.data_link and (self.link is None or self.data_link.value != self.link.value):
            yield ("data mode's link", str(self.data_link.value), self.data_link.since, self.data_link.by)
        if self.joined:
            yield ("peer", "joined", self.joined.since, self.joined.by)
        if self.half:
            yield ("line", f"“{self.half.value}” may stand in it", self.half.since, self.half.by)
        if payload := self.reader.payload:
            left = f"{counted(payload.left, 'byte')} missing" if payload.left is not None else "up to its end"
            if payload.prompted:
                yield ("payload", f"awaited: {left}", self._said_at, f"it sent its prompt for {payload.form.name}")
        for name, unsaved in self.unsaved.items():
            value = f"{name}: {unsaved.value}" if unsaved.value else name
            yield ("unsaved", value, unsaved.since, unsaved.by)
        for name, lost in self.lost.items():
            yield ("lost", f"{name}, which was not saved before the module started again", lost.since, lost.by)
        for name, pending in self.pending.items():
            when = {Moves.SAVE: "once it is saved", Moves.RESTART: "from a restart on", Moves.LEAVE: "in data mode"}
            yield ("pending", f"{name} counts {when.get(pending.value, 'later')}", pending.since, pending.by)
        for owed in self.owed:
            yield ("owed", f"the answer to “{owed.value}”", owed.since, owed.by)


def _shortly(text: str) -> str:
    return visible(text if len(text) <= _SHORT else f"{text[:_SHORT]}...")
