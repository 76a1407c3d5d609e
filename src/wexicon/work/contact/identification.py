"""What `hail` may say to a module of which nothing is known, and which lexicons fit one that answers: each asks its own
questions.

The rule: no question can change a module. It is `AT`, which changes nothing in any module that keeps to ITU-T V.250 (5.2.1),
the harmless line that each lexicon names as its `probe`, and, only where that was asked for, the lexicons' escapes. An answer
belongs to its question: before a question all earlier answers have come, as long as this module takes for one. An echo or a
result code is no identity, and an answer that could be any line is asked for again until the same one has come twice.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import msgspec

from wexicon.core.faults import Fault, LinkFault, Stopped
from wexicon.core.formats.lexicon import AttentionBy, Lexicon, Phrase
from wexicon.core.protocol.dialect import Reply, ReplyStatus
from wexicon.core.protocol.insertion import InsertionFault
from wexicon.core.protocol.layers import Colours
from wexicon.core.protocol.session import Session
from wexicon.core.text import to_text, visible
from wexicon.core.tuning import USUAL_RATES, Tuning
from wexicon.work.contact.causes import Overheard, is_own

# How long an answer takes that comes at once, in seconds: a module's own delay, without the time on the wire.
AT_ONCE = 0.06
# How long a module is given that takes its time.
PATIENT = 0.5


class Question(msgspec.Struct, frozen=True):
    """`data` as it goes out, line end and all; `end` its line end; the `lexicons` whose question it is; seconds that the
    answer may take beside the wire; the silence that must go before it; the rates that these modules can have (none: any);
    the only link where it makes sense, if there is one."""

    data: bytes
    end: str
    lexicons: tuple[str, ...] = ()
    within: float = AT_ONCE
    silence: float = 0.0
    rates: tuple[int, ...] = ()
    only_at: Tuning | None = None

    @property
    def label(self) -> str:
        """The question as a person reads it, without its line end."""
        text = to_text(self.data).rstrip("\r\n")
        return visible(text) if text.isprintable() else self.data.hex(" ").upper()

    def tunings(self, usual: Iterable[Tuning]) -> Iterable[Tuning]:
        """The links on which to ask it."""
        return [self.only_at] if self.only_at else (one for one in usual if not self.rates or one.rate in self.rates)


class Escape(msgspec.Struct, frozen=True):
    """An escape string with its guard time, and the lexicon whose it is."""

    lexicon: str
    text: str
    guard: float


GREETING = Question(b"AT\r\n", "crlf", ("v250",))
SLOW_GREETING = msgspec.structs.replace(GREETING, within=PATIENT)


def questions(lexicons: Iterable[Lexicon]) -> list[Question]:
    """The greeting, then each lexicon's own probe, those that need a silence before them last. A module that listens only
    after an escape or with a key held is not asked in its own words: in data mode they would go out by radio. Nor is one
    that cannot say who it is: it is known by what it sends."""
    made: dict[bytes, Question] = {}
    for lexicon in lexicons:
        if lexicon.attention.how in (AttentionBy.ESCAPE, AttentionBy.HELD_KEY) or not lexicon.identify:
            continue
        asked = question_of(lexicon)
        if asked is None or asked.data == GREETING.data or (asked.label == GREETING.label and asked.end == "cr"):
            continue
        before = made.get(asked.data)
        if before:
            asked = msgspec.structs.replace(
                asked,
                lexicons=(*before.lexicons, *asked.lexicons),
                within=max(before.within, asked.within),
                rates=(*before.rates, *asked.rates),
            )
        made[asked.data] = asked
    return [GREETING, *sorted(made.values(), key=lambda one: (one.silence, one.only_at is None))]


def slow_questions(lexicons: Iterable[Lexicon]) -> list[Question]:
    """The same for modules that take their time: the greeting at any rate; the lexicons' own at the rates of their modules, if
    they state how long an answer may take, else as delivered."""
    made = [SLOW_GREETING]
    for lexicon in lexicons:
        within, asked = lexicon.attention.probe.within or 0.0, question_of(lexicon)
        alone = lexicon.attention.how in (AttentionBy.ESCAPE, AttentionBy.HELD_KEY) or not lexicon.identify
        if asked is None or alone or asked.data.rstrip() == b"AT":
            continue
        if within >= PATIENT:
            _add(made, msgspec.structs.replace(asked, within=within + lexicon.dialect.gap))
        else:
            _add(made, msgspec.structs.replace(asked, within=PATIENT, only_at=asked.only_at or lexicon.factory))
    return made


def _add(made: list[Question], asked: Question) -> None:
    """Adds a question, or the lexicon to the one that is the same: none is asked twice."""
    for at, one in enumerate(made):
        if (one.data, one.only_at) == (asked.data, asked.only_at):
            whose, rates = (*one.lexicons, *asked.lexicons), (*one.rates, *asked.rates)
            made[at] = msgspec.structs.replace(
                one,
                lexicons=whose,
                within=max(one.within, asked.within),
                rates=rates if one.rates and asked.rates else (),
            )
            return
    made.append(asked)


def question_of(lexicon: Lexicon, phrase: Phrase | None = None) -> Question | None:
    """A phrase of a lexicon, its probe as a rule, as a question; None where its values are not known."""
    probe, dialect, attention = phrase or lexicon.attention.probe, lexicon.dialect, lexicon.attention
    try:
        data = dialect.encode(probe.say.fill({}).text)
    except InsertionFault:
        return None
    within = (probe.within if probe.within is not None and probe.within < PATIENT else AT_ONCE) + dialect.gap
    return Question(
        data,
        dialect.speech.end,
        (lexicon.about.family,),
        within,
        dialect.window,
        tuple(lexicon.rates()),
        attention.tuning or None,
    )


def escapes(lexicons: Iterable[Lexicon]) -> list[Escape]:
    """Each escape that is heard at any time."""
    made: dict[tuple[str, float], Escape] = {}
    for lexicon in lexicons:
        if lexicon.attention.escape_opens:
            one = Escape(lexicon.about.family, lexicon.attention.escape, lexicon.attention.guard)
            made.setdefault((one.text, one.guard), one)
    return list(made.values())


def rates_to_try(lexicons: Iterable[Lexicon]) -> list[int]:
    """The usual rates, then those that only a lexicon has."""
    more = [rate for lexicon in lexicons for rate in lexicon.rates()]
    return list(dict.fromkeys([*USUAL_RATES, *more]))


def all_that_may_be_said(lexicons: Iterable[Lexicon]) -> list[tuple[str, list[str], list[str]]]:
    """Everything that `hail` may say, as (when, what, whose): all of it, in the lexicons' own writing, line ends aside."""
    by_family = {lexicon.about.family: lexicon for lexicon in lexicons}
    made: dict[tuple[str, str], list[str]] = {("always", GREETING.label): []}
    for question in questions(by_family.values())[1:]:
        for family in question.lexicons:
            say = by_family[family].attention.probe.say.plain
            made.setdefault(("if AT gets no answer", say), []).append(family)
    for family, lexicon in by_family.items():
        for phrase in (lexicon.attention.probe, *lexicon.identify, *filter(None, [lexicon.attention.whole])):
            made.setdefault(("if a lexicon matches", phrase.say.plain), []).append(family)
    for escape in escapes(by_family.values()):
        made.setdefault(("with --escapes only", visible(escape.text)), []).append(escape.lexicon)
    # Lines of the same families stand together.
    together: dict[tuple[str, tuple[str, ...]], list[str]] = {}
    for (when, says), families in made.items():
        together.setdefault((when, tuple(dict.fromkeys(families))), []).append(says)
    return [(when, says, list(families)) for (when, families), says in together.items()]


# How long a silence ends an answer, where the module answers at once (seconds).
GAP = 0.02
# How much longer than its slowest answer a silence must be, so that no answer is outstanding.
LONGER = 1.5
# How often a question is asked until two answers are the same.
_MOST_ASKED = 4


class Fit(msgspec.Struct, frozen=True):
    """A lexicon that fits, who the module said it is, and its line end as it was found."""

    lexicon: Lexicon
    identity: dict[str, str]
    end: str


class Identification:
    """The questions on one session. `delay` is the slowest answer so far, in seconds without the wire; `half` is a family whose
    module said who it is and does not answer the rest."""

    def __init__(self, session: Session, lexicons: Sequence[Lexicon]) -> None:
        self.session = session
        self.lexicons = lexicons
        self.delay = 0.0
        self.half: Lexicon | None = None
        # What the module said of itself, by the questions: lexicons with the same ones share the answers.
        self._told: dict[str, dict[str, str] | None] = {}

    def quiet(self) -> float:
        """The silence after which no answer is outstanding."""
        return GAP + LONGER * self.delay

    def settle(self) -> None:
        """Waits until all answers have come, and drops what is not a whole line."""
        self.session.wait_until_quiet(self.quiet(), 2 * self.quiet() + PATIENT)
        self.session.forget_partial()

    def likely(self, link: Tuning, heard: Overheard) -> list[Lexicon]:
        """The lexicons that know words of this."""
        here = [one for one in self.lexicons if one.attention.tuning in (None, link)]
        return [one for one in here if any(is_own(one, line) for line in self._lines(one, heard))]

    @staticmethod
    def _lines(lexicon: Lexicon, heard: Overheard) -> list[str]:
        """The received lines as a lexicon has them."""
        lines = heard.told(lexicon.dialect)
        return [Colours.plain(line) for line in lines] if lexicon.speech.colours else list(lines)

    def fits(self, link: Tuning, heard: Overheard, *, greeted: bool, whose: Sequence[str] = ()) -> list[Fit]:
        """The lexicons that fit on a link where words came, the likeliest first. `greeted`: the greeting was answered; `whose`
        are the families of the question that was. If the module named itself as one of these, no others are asked."""
        likely = self.likely(link, heard)
        found: list[Fit] = []
        pending = heard.end
        self._told.clear()
        # What needs a silence first is asked last, and not at all where another lexicon fits that names its family.
        for one in sorted(likely, key=lambda one: (one.about.family not in whose, one.dialect.window)):
            named = any(fit.lexicon.must for fit in found)
            if named and one.about.family not in whose and any(fit.lexicon.about.family in whose for fit in found):
                break
            if named and one.dialect.window:
                continue
            if fit := self._fit(one, link, pending):
                found.append(fit)
            pending = one.dialect.speech.end
        if found and not any(fit.lexicon.must for fit in found):
            # What fits many may be one of a family of its own.
            alike = {(fit.lexicon.speech.form, fit.lexicon.speech.end) for fit in found}
            for one in self.lexicons:
                here = one.attention.tuning in (None, link) and (one.speech.form, one.speech.end) in alike
                if here and one not in likely and one.must and (fit := self._fit(one, link, pending)):
                    found.append(fit)
        # A module that did not answer the greeting refuses by silence; one that did, does not.
        found.sort(key=lambda fit: (fit.lexicon.speech.error == "silence") == greeted)
        return sorted(found, key=lambda fit: not fit.lexicon.must)

    def _fit(self, lexicon: Lexicon, link: Tuning, pending: str) -> Fit | None:
        """The module as a lexicon sees it; None where it does not answer so, or names itself as another. `pending` is the line
        end of the last question."""
        asked = (lexicon.attention.probe, *lexicon.identify, *filter(None, [lexicon.attention.whole]))
        wants = [(one.say.source, [want.pattern.source for want in one.expect.wants]) for one in asked]
        key = repr((wants, lexicon.speech, lexicon.attention.whole and lexicon.must))
        if key not in self._told:
            self._told[key] = self._identity(lexicon, link, pending)
        identity = self._told[key]
        if identity is None or any(identity.get(name) != wanted for name, wanted in lexicon.must.items()):
            return None
        named_by = {name for one in lexicon.identify for want in one.expect.wants for name in want.pattern.names}
        told = {name: text for name, text in identity.items() if name in named_by}
        return Fit(lexicon, told, lexicon.dialect.speech.end)

    def _identity(self, lexicon: Lexicon, link: Tuning, pending: str) -> dict[str, str] | None:
        """What the module says of itself to a lexicon's questions; None where it does not answer them."""
        session, dialect = self.session, lexicon.dialect
        session.tune(link)
        self.settle()
        session.adopt(dialect)
        if dialect.window:
            session.quiet(dialect.window)
        elif dialect.form == "lines" and pending != dialect.speech.end:
            session.send(dialect.line_end.encode())
            self.settle()
        identity: dict[str, str] = {}
        try:
            for phrase in (lexicon.attention.probe, *lexicon.identify):
                answer = self._answer(phrase, lexicon)
                if answer is None and lexicon.attention.whole and self._names(lexicon, identity):
                    # Its key may be held only since a moment ago.
                    session.quiet(lexicon.attention.hold + lexicon.start.within)
                    answer = self._answer(phrase, lexicon)
                if answer is None:
                    if lexicon.attention.whole and self._names(lexicon, identity):
                        self.half = lexicon
                    return None
                identity |= {name: str(value) for name, value in answer.captures.items()}
                self._choose(lexicon)
        except (LinkFault, Stopped):
            raise
        except Fault:
            return None
        return identity

    def _choose(self, lexicon: Lexicon) -> None:
        """Chooses the module that the port was named with, of several behind it."""
        select, number = lexicon.attention.select, self.session.bound
        if select is not None and number is not None:
            self.session.exchange(select.say.fill({"station": str(number)}), select.expect, select.within)

    @staticmethod
    def _names(lexicon: Lexicon, identity: dict[str, str]) -> bool:
        """Whether the module has said that it is of this family."""
        named = all(identity.get(name) == wanted for name, wanted in lexicon.must.items())
        return bool(lexicon.must) and named

    def _answer(self, phrase: Phrase, lexicon: Lexicon) -> Reply | None:
        """The answer to a question; None if there is none that is certain."""
        answer = self._asked(phrase, AT_ONCE if phrase is lexicon.attention.probe else PATIENT)
        if not answer.ok:
            return None
        if phrase is lexicon.attention.probe or not _any_line(phrase):
            return answer
        told = answer.captures
        if not _identifies(told.values(), self.lexicons):
            told = {}
        for _ in range(_MOST_ASKED - 1):
            again = self._asked(phrase, PATIENT)
            if again.ok and again.captures == told:
                return again
            told = again.captures if again.ok and _identifies(again.captures.values(), self.lexicons) else {}
        return None

    def _asked(self, phrase: Phrase, usual: float) -> Reply:
        """Asks a question; again where the first may have met with what was on the line before. `usual` is the time for an
        answer where the lexicon states none, in seconds."""
        answer = self._exchange(phrase, usual)
        disturbed = self.session.dialect.form == "sentences" or not answer.heard
        if not answer.ok and (answer.status is ReplyStatus.ERROR or disturbed):
            self.settle()
            answer = self._exchange(phrase, usual)
        return answer

    def _exchange(self, phrase: Phrase, usual: float) -> Reply:
        session = self.session
        session.drain()
        session.events.clear()
        tuning, said = session.link.tuning, phrase.say.fill({}).text
        stated = min(phrase.within or 0.0, 2 * PATIENT)
        within = max(usual, stated, self.quiet()) + session.dialect.gap + tuning.wire_time(96)
        answer = session.exchange(said, phrase.expect, within)
        if answer.ok:
            self.delay = max(self.delay, answer.waited - tuning.wire_time(len(said)))
        return answer


def _any_line(phrase: Phrase) -> bool:
    """Whether any line could be the answer."""
    return any(not want.pattern.start for want in phrase.expect.wants)


def _identifies(told: Iterable[object], lexicons: Sequence[Lexicon]) -> bool:
    """Whether these may be who a module is: no question of ours that comes back, and no result code."""
    questions = {
        phrase.say.plain.strip().upper()
        for one in lexicons
        for phrase in (one.attention.probe, *one.identify, *filter(None, [one.attention.whole]))
    }
    texts = [str(one).strip() for one in told]
    return not any(text.upper() in questions or _is_result(text, lexicons) for text in texts)


def _is_result(text: str, lexicons: Sequence[Lexicon]) -> bool:
    plain = (one for one in lexicons if one.dialect.form == "lines" and not one.speech.layers)
    return any(one.dialect.final(text) is not None for one in plain)
