"""All that `hail` may say to a module of which nothing is known, in the order of likelihood.

The rule: nothing here can change a module. It is `AT`, which changes nothing in any module that keeps to ITU-T V.250
(5.2.1), the harmless line that each lexicon names as its `probe`, and, only where that was asked for, the lexicons' escapes.
"""

from __future__ import annotations

from collections.abc import Iterable

import msgspec

from wexicon.core.formats.lexicon import AttentionBy, Lexicon, Phrase
from wexicon.core.protocol.insertion import InsertionFault
from wexicon.core.text import to_text, visible
from wexicon.core.tuning import USUAL_RATES, Tuning

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
            made.append(msgspec.structs.replace(asked, within=within + lexicon.dialect.gap))
        else:
            made.append(msgspec.structs.replace(asked, within=PATIENT, only_at=asked.only_at or lexicon.factory))
    return made


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
