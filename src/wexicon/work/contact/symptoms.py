"""What the last exchanges of a session point to when one of them fails, the same in every command; and which lines change the
module's rate, and to which.

The rule: it says nothing to the module and assumes nothing. What counts are the lines of this session in both directions, as
reported, without secrets; a cause is only named if something in them points there. A line is known by its lexicon's own words,
or by ITU-T V.250; of any other nothing is assumed.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Sequence
from contextlib import suppress
from functools import cache

import msgspec

from wexicon.core.dialogue.hearing import SILENCE
from wexicon.core.faults import Fault, ModuleFault
from wexicon.core.formats.lexicon import AttentionBy, Lexicon, Moves
from wexicon.core.module_state.forms import Does
from wexicon.core.module_state.reader import Part, Reader
from wexicon.core.module_state.starts import StartWatch
from wexicon.core.module_state.state import Mode, ModuleState
from wexicon.core.protocol.dialect import ReplyStatus
from wexicon.core.protocol.observations import Heard, Role, Said, Tuned
from wexicon.core.protocol.session import Session
from wexicon.core.results.listed import Cause
from wexicon.core.text import garbled, spoken, to_bytes
from wexicon.core.tuning import Tuning
from wexicon.work.contact.causes import (
    asleep,
    begun_payload,
    echo_only,
    elsewhere,
    every_error,
    garbage,
    half_a_line,
    is_event,
    late,
    let_go,
    other_line_end,
    passes_data,
    payload_missing,
    peer,
    rate_changed,
    restarting,
    stood_in_line,
    unanswered,
    waits_for_payload,
    written_otherwise,
)


def new_rate(lexicon: Lexicon | None, text: str) -> tuple[int, str] | None:
    """The rate to which a line moves the module, and when, in words; None if it is no such line. Without a lexicon ITU-T V.250,
    6.2.10 is known."""
    for part in Reader(lexicon).read(text):
        for name, value in part.values.items():
            setting = lexicon.settings[name] if lexicon else None
            if setting and setting.kind.rates():
                when = {Moves.SAVE: "once it is saved", Moves.RESTART: "after a restart", Moves.LEAVE: "in data mode"}
                rate = setting.kind.apply_to(Tuning(), value).rate
                return rate, when.get(setting.moves_link or Moves.AT_ONCE, "now")
    found = re.fullmatch(r"AT\+IPR=(\d{3,7})", text.strip(), re.IGNORECASE)
    return (int(found[1]), "now") if found else None


# Starts of a module with too weak a supply come as often as this (seconds), or more often.
STARTS_WITHIN = 10.0
# How long an answer that did not come in time is listened for, to know whether it is late (seconds).
LATE = 2.0
# How devices of no known family say that they did not take a line.
_REFUSAL = re.compile(r"(?i)\b(?:err|error|fault|fail|failed|nak|invalid|unknown|illegal|denied|bad command)\b")
# How many bytes of garbage tell a rate, and how alike they must be to a known text sent at it: of many texts one always fits a
# little.
_ENOUGH = 4
_CERTAIN = 0.9
_ANSWERS = (Role.ANSWER, Role.WORD, Role.OK, Role.ERROR, Role.PROMPT)


class Turn(msgspec.Struct):
    """One line that was said, on which link, and all that came until the next; a turn without a line is what came before."""

    at: float
    said: str
    exact: bool
    tuning: Tuning
    heard: list[Heard] = msgspec.field(default_factory=list)

    def texts(self, *roles: Role) -> list[str]:
        """What came in these roles, in any if none is named; echoes are left out."""
        return [one.text for one in self.heard if (one.role in roles if roles else one.role is not Role.ECHO)]

    @property
    def answered(self) -> bool:
        """Whether the module understood the line."""
        return bool(self.texts(Role.ANSWER, Role.WORD, Role.OK, Role.PROMPT))


class Symptoms:
    """The record of a session, as turns."""

    def __init__(self, session: Session, lexicon: Lexicon | None) -> None:
        self.session = session
        self.lexicon = lexicon
        recent = list(session.recent)
        moves = [one for one in recent if isinstance(one, Tuned)]
        # Before our side was first tuned it was as it is now, if it never was; else it does not matter.
        tuning = session.link.tuning
        self.turns = [Turn(float("-inf"), "", False, moves[0].tuning if moves else tuning)]
        self.moved: Tuned | None = None
        for one in recent:
            if isinstance(one, Said) and (one.text.strip() or not one.exact):
                self.turns.append(Turn(one.at, one.text, one.exact, self.turns[-1].tuning))
            elif isinstance(one, Heard):
                self.turns[-1].heard += _by_lines(one)
            elif isinstance(one, Tuned):
                self.turns.append(Turn(one.at, "", True, one.tuning))
        self.turns[-1].tuning = tuning
        watch = StartWatch(self._lexicons)
        pieces = (each for one in recent for each in (_by_lines(one) if isinstance(one, Heard) else [one]))
        self._starts = [start for one in pieces if (start := watch.note(one))]
        # The rate that garbage points to.
        self.true_rate: int | None = None

    @property
    def last(self) -> Turn:
        """The last line that was said."""
        return next((one for one in reversed(self.turns) if one.said), self.turns[-1])

    def cause(self) -> Cause | None:
        """The cause that all of it points to; None if nothing does. The order is that of certainty."""
        for find in self._all():
            if found := find():
                return found
        return None

    def _all(self) -> Iterable[Callable[[], Cause | None]]:
        yield self.restarting
        yield self._peer
        yield self._awaits_payload
        yield self._payload
        yield self._known
        yield self._garbage
        yield self._late
        yield self._refused
        yield self._silent

    def started(self) -> bool:
        """Whether the module was heard to start."""
        return bool(self._starts)

    def illegible(self) -> bool:
        """Whether what the last line brought is garbage."""
        return any(map(garbled, self.last.texts()))

    def refused(self) -> bool:
        """Whether the last line was answered with an error, in words of its lexicon, of any family, or in plain English."""
        if self.last.texts(Role.OK):
            return False
        return bool(self.last.texts(Role.ERROR)) or self._refuses(self.last)

    def _refuses(self, turn: Turn) -> bool:
        return any(is_refusal(text, self._lexicons()) for text in turn.texts())

    # -- single causes ------------------------------------------------------------------------------------------------

    def restarting(self) -> Cause | None:
        """Two starts soon after each other, or one in the middle of an exchange."""
        starts = self._starts
        soon = [one for one, other in zip(starts[1:], starts, strict=False) if one.at - other.at <= STARTS_WITHIN]
        if soon and not self._starts_often():
            return restarting(soon[-1].text, [one.at for one in starts if one.text == soon[-1].text])
        return None

    def _starts_often(self) -> bool:
        """Whether the operator has it start for each contact."""
        attention = self.lexicon.attention if self.lexicon else None
        return bool(attention and (attention.power_up or attention.window))

    def _lexicons(self) -> Sequence[Lexicon]:
        return [self.lexicon] if self.lexicon else _shipped()

    def _peer(self) -> Cause | None:
        name = self.lexicon.attention.ends_on if self.lexicon else ""
        if self.lexicon and name and any(is_event(self.lexicon, text, name) for text in self._since_answered()):
            return peer(self.lexicon)
        return None

    def _since_answered(self) -> list[str]:
        """What came since the module last answered a line."""
        texts: list[str] = []
        for one in (one for turn in self.turns for one in turn.heard):
            texts = [] if one.role in _ANSWERS else [*texts, one.text]
        return texts

    @property
    def _state(self) -> ModuleState | None:
        """What is known of the module, if the session keeps it for this lexicon."""
        known = self.session.known
        return known if isinstance(known, ModuleState) and known.lexicon is self.lexicon else None

    def _awaits_payload(self) -> Cause | None:
        """A payload was begun: what is said now belongs to it."""
        payload = self._state.reader.payload if self._state else None
        if payload is None or not payload.prompted or not payload.said:
            return None
        return payload_missing(payload.left, payload.form.name or "the line before")

    def _known(self) -> Cause | None:
        """What is known of the module explains it: its mode, its link, what stood in its line, how the line was written."""
        state, lexicon, last = self._state, self.lexicon, self.last
        if state is None or lexicon is None or last.answered:
            return None
        refused = self.refused()
        if state.mode and state.mode.value is Mode.DATA:
            return passes_data(state.mode.by)
        if state.link and state.link.value.rate != self.session.link.tuning.rate and not self.session.fixed:
            self.true_rate = state.link.value.rate
            return elsewhere(state.link.value, state.link.by, self.session.link.tuning)
        if not refused and any(text.strip() != last.said.strip() for text in last.texts()):
            return None
        if state.in_front and state.in_front.since < last.at:
            return stood_in_line(state.in_front.value, state.in_front.by)
        parts = [part for part in state.reader.last if part.form and not part.as_written]
        if parts and parts[0].form and not parts[0].secrets:
            return written_otherwise(parts[0].text, _as_written(parts[0]))
        if refused:
            return None
        end = self.session.dialect.speech.end
        if end != lexicon.speech.end and not any(one.answered for one in self.turns):
            return other_line_end(end, lexicon.speech.end)
        return None

    def _payload(self) -> Cause | None:
        """A prompt stands, or bytes followed it and nothing has come since."""
        if self.session.partial.strip() == ">" or any(text.strip() == ">" for text in self.last.texts()):
            return waits_for_payload()
        before = [one for one in self.turns if one.said and one is not self.last]
        prompted = bool(before) and any(text.strip() == ">" for text in before[-1].texts())
        if prompted and not self.last.texts():
            return begun_payload(self.last.said)
        return None

    def _garbage(self) -> Cause | None:
        heard = [text for turn in self.turns[-2:] for text in turn.texts()]
        heard += [self.session.partial] if self.session.partial else []
        longest = max((text for text in heard if garbled(text)), key=len, default="")
        if not longest:
            return None
        self.true_rate = self._rate_of(longest)
        if self.lexicon and self.true_rate and self.true_rate == self.lexicon.start.rate:
            # What it sends as it starts comes at a rate of its own: that is no rate to follow.
            self.true_rate = None
            return None
        return garbage(self.session.link.tuning, longest, self.true_rate)

    def _rate_of(self, text: str) -> int | None:
        """The rate at which these words were sent, by their waveform; None if it cannot be told."""
        from wexicon.core.standards.waveform import true_rate

        known = {b"\r\nOK\r\n": None, b"OK\r\n": None, b"\r\nERROR\r\n": None, b"ERROR\r\n": None}
        for lexicon in self._lexicons():
            known |= dict.fromkeys(lexicon.start_texts())
            words = [word for word in (*lexicon.speech.ok, *lexicon.speech.errors) if "{" not in word and len(word) > 2]
            known |= {to_bytes(f"{word}{end}"): None for word in words for end in ("\r\n", "\n")}
        data = _once(to_bytes(text))
        if len(data) < _ENOUGH:
            return None
        return true_rate(data, self.session.link.tuning, list(known), least=_CERTAIN)

    def _late(self) -> Cause | None:
        """A result code came when its line was no longer waited for."""
        for turn in self.turns[-2:]:
            for one in turn.heard:
                if one.role is Role.UNEXPECTED and turn.said and one.at - turn.at > self.session.dialect.within:
                    return late(turn.said, one.text, spoken(one.at - turn.at))
        return None

    def _refused(self) -> Cause | None:
        """Only errors, or only our own words."""
        asked = [one for one in self.turns if one.said]
        if any(one.answered and not self._refuses(one) for one in asked):
            return None
        refused = [one for one in asked if one.texts(Role.ERROR) or self._refuses(one)]
        if refused and len(refused) == len(asked):
            if len(asked) > 1 and (self.lexicon is None or any(_harmless(one.said, self.lexicon) for one in asked)):
                return every_error(self.last.tuning, self.last.texts()[-1])
            return (
                half_a_line(self.last.said, self.last.texts()[-1]) if _harmless(self.last.said, self.lexicon) else None
            )
        echoed = [one for one in asked if one.texts(Role.ECHO)]
        if echoed and len(echoed) == len(asked) and not any(one.texts() for one in asked):
            return echo_only([(self.last.tuning, self.session.dialect.speech.end)])
        return None

    def _silent(self) -> Cause | None:
        """Nothing came: the module was never heard, or not since something happened."""
        if self.last.texts():
            return None
        lexicon, tuning, end = self.lexicon, self.session.link.tuning, self.session.dialect.speech.end
        answered = [one for one in self.turns if one.answered]
        if not answered:
            return unanswered(tuning, end)
        before = answered[-1]
        changed = new_rate(lexicon, before.said)
        if changed and changed[0] != tuning.rate:
            self.true_rate = changed[0]
            return rate_changed(before.said, changed[0], changed[1], tuning)
        if self._sleeps():
            return asleep(before.said, lexicon)
        if (
            lexicon
            and lexicon.attention.how is AttentionBy.HELD_KEY
            and before.tuning == tuning
            and self._is_half(before)
        ):
            return let_go(lexicon)
        return unanswered(tuning, end, before.said, before.tuning)

    def _is_half(self, before: Turn) -> bool:
        """Whether the module answered who it is, and not a line that needs the key and is letter by letter its lexicon's."""
        state, lexicon = self._state, self.lexicon
        if state is None or lexicon is None or self.session.dialect.speech.end != lexicon.speech.end:
            return False
        asked = state.reader.last[0] if len(state.reader.last) == 1 else None
        quick = asked is not None and asked.does in (Does.ASKS, Does.WRITES) and asked.as_written
        (asked_before, *more) = state.reader.read(before.said)
        return quick and not more and asked_before.does is Does.ASKS and not asked_before.name

    def _sleeps(self) -> bool:
        """Whether the module said that it goes to sleep, or is one that has to be woken."""
        events = [one.name for turn in self.turns for one in turn.heard if one.name]
        return bool(self.lexicon and self.lexicon.attention.wake) or any("sleep" in name for name in events[-1:])


def _harmless(said: str, lexicon: Lexicon | None) -> bool:
    """Whether this is a line that no module refuses if it is heard whole: the harmless one of its lexicon, or of any."""
    probes = {one.attention.probe.say.plain.upper() for one in ([lexicon] if lexicon else _shipped())}
    return said.strip().upper() in (probes if lexicon else {"AT", *probes})


def _once(data: bytes) -> bytes:
    """What was sent several times in a row, once: garbage has no line ends that part it."""
    for size in range(1, len(data) // 2 + 1):
        if data == data[:size] * (len(data) // size) + data[: len(data) % size]:
            return data[:size]
    return data


def _by_lines(heard: Heard) -> list[Heard]:
    """Transparent data is heard in pieces of any size: line by line."""
    if "\n" not in heard.text and "\r" not in heard.text:
        return [heard]
    lines = [line for line in re.split("[\r\n]+", heard.text) if line]
    return [Heard(heard.at, line, heard.role) for line in lines]


def _as_written(part: Part) -> str:
    """A line as the lexicon writes it, with the values of this one."""
    assert part.form
    return "".join(one if isinstance(one, str) else part.words.get(one[0], "...") for one in part.form.template.parts)


def is_refusal(text: str, lexicons: Sequence[Lexicon] | None = None) -> bool:
    """Whether this is how a device says that it did not take a line: an error of these families (of all, if none is named), or
    plain English."""
    finals = [one.dialect.final(text) for one in (_shipped() if lexicons is None else lexicons)]
    found = [one.status for one in finals if one is not None]
    return all(one is ReplyStatus.ERROR for one in found) if found else _REFUSAL.search(text) is not None


def explained(session: Session, lexicon: Lexicon | None = None) -> Cause | None:
    """What the last exchange of a session points to. If nothing came, it listens a moment longer: the answer may be late."""
    if session.outstanding:
        session.listen(session.clock.now() + LATE, lambda: not session.outstanding)
    return Symptoms(session, lexicon).cause()


def with_cause(fault: BaseException, session: Session, lexicon: Lexicon | None = None) -> None:
    """Adds to the fault of an exchange what it points to."""
    if not isinstance(fault, ModuleFault) or not (fault.part.said or fault.part.expected):
        return
    with suppress(Fault):
        if cause := explained(session, lexicon):
            before = f"{fault.hint}\n" if fault.hint and not fault.hint.startswith(SILENCE) else ""
            fault.hint = f"{before}{cause.sentence}"


@cache
def _shipped() -> list[Lexicon]:
    """What the families that are known say, for a module of which no lexicon was named."""
    from wexicon.work.contact.catalog import all_lexicons

    return all_lexicons()
