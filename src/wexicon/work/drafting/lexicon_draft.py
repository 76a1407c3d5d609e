"""Drafts a lexicon by asking the module itself: identity, echo, line end, form of errors, list of commands, their ranges.

The rule: only questions are asked, nothing is set. What was learned is written as learned, what was guessed is marked so;
the draft reads without a fault.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from itertools import pairwise

import msgspec

from wexicon.core.faults import Unreachable
from wexicon.core.protocol.dialect import OK, Closing, Dialect, Expectation, Reply, ReplyStatus, Want
from wexicon.core.protocol.patterns import Pattern
from wexicon.core.protocol.session import Session
from wexicon.core.protocol.speech import Speech
from wexicon.core.text import visible
from wexicon.core.tuning import USUAL_RATES, Tuning
from wexicon.work.contact.symptoms import Symptoms

ENDS = ("cr", "crlf", "lf")
QUICK = 0.25
PATIENT = 5.0
IDENTITY = (
    ("maker", ("AT+CGMI", "AT+GMI")),
    ("model", ("AT+CGMM", "AT+GMM")),
    ("firmware", ("AT+CGMR", "AT+GMR")),
    ("serial", ("AT+CGSN", "AT+GSN")),
)
# Asking these does something, takes minutes, or reports what is not a setting.
LEFT_OUT = {
    "CLAC",
    "COPS",
    "CMGL",
    "CMGR",
    "CMGS",
    "CMGD",
    "CFUN",
    "CPIN",
    "CGMI",
    "CGMM",
    "CGMR",
    "CGSN",
    "CIMI",
    "GMI",
    "GMM",
    "GMR",
    "GSN",
}
MOST_COMMANDS = 400
_ANY = Expectation((Want(Pattern("{line}"), gather=True),))


class ListedCommand(msgspec.Struct):
    """One command: its range (`=?`) and its value now (`?`), as the module gave them; None where it has no such form."""

    word: str
    ranges: str | None = None
    value: str | None = None


class Learned(msgspec.Struct):
    """All that the module told."""

    tuning: Tuning = msgspec.field(default_factory=Tuning)
    end: str = "cr"
    echo: str = "off"
    error: str = "ERROR"
    identity: dict[str, tuple[str, str]] = msgspec.field(default_factory=dict)
    commands: list[ListedCommand] = msgspec.field(default_factory=list)
    listed: bool = False


class Drafting:
    """One module being asked. `watch` is reported what is being done."""

    def __init__(self, session: Session, watch: Callable[[str], None] = lambda step: None) -> None:
        self.session = session
        self.watch = watch
        self.learned = Learned()

    def learn(self, rates: Sequence[int] = USUAL_RATES) -> Learned:
        """Asks all questions. Raises Unreachable where nothing answers."""
        self._find(rates)
        self.watch("errors")
        refused = self._ask("AT+WEXICONDRAFT?")
        if refused.heard:
            text = refused.heard[-1]
            self.learned.error = re.sub(r"-?\d+$", "{code:int}", text.replace("{", "{{").replace("}", "}}"))
            speech = self.session.dialect.speech
            self.session.adopt(
                Dialect(Speech(end=speech.end, echo=speech.echo, error=(self.learned.error, "ERROR"), closing="always"))
            )
        self.watch("identity")
        for name, ways in IDENTITY:
            for said in ways:
                outcome = self._ask(said)
                if outcome.ok and outcome.rows:
                    self.learned.identity[name] = (said, str(outcome.rows[0]["line"]))
                    break
        for word in self._list():
            self.watch(f"+{word}")
            self.learned.commands.append(self._command(word))
        self.learned.echo = "on" if self.session.echoes else "off"
        return self.learned

    def _find(self, rates: Sequence[int]) -> None:
        for rate in rates:
            self.watch(f"{rate} baud")
            self.session.tune(Tuning(rate))
            if any(self._answers(end) for end in ENDS):
                # The first may have met with what the module heard of us at another rate: the plainest that works counts.
                self.learned.tuning = self.session.link.tuning
                self.learned.end = next(end for end in ENDS if self._answers(end))
                return
        tried = ", ".join(map(str, rates))
        cause = Symptoms(self.session, None).cause()
        raise Unreachable(
            f"nothing answers AT with OK (tried {tried} baud, line ends {', '.join(ENDS)})",
            where=self.session.link.name,
            hint=(f"{cause.sentence}\n" if cause else "")
            + "A module that is spoken to otherwise is written down by hand: wexicon lexicon new",
        )

    def _answers(self, end: str) -> bool:
        self.session.adopt(Dialect(Speech(end=end, closing=Closing.ALWAYS)))
        outcome = self.session.exchange("AT", OK, QUICK)
        return outcome.ok or (outcome.status is ReplyStatus.ERROR and self.session.exchange("AT", OK, QUICK).ok)

    def _ask(self, said: str) -> Reply:
        return self.session.exchange(said, _ANY, PATIENT)

    def _list(self) -> list[str]:
        self.watch("list of commands")
        outcome = self._ask("AT+CLAC")
        if not outcome.ok:
            return []
        self.learned.listed = True
        words: list[str] = []
        for row in outcome.rows[:MOST_COMMANDS]:
            for text in re.split(r"[,\s]+", re.sub(r"^\+CLAC:\s*", "", str(row["line"]))):
                found = re.fullmatch(r"(?:AT)?\+([A-Z0-9]+)", text.strip('"'))
                if found and found[1] not in words and found[1] not in LEFT_OUT:
                    words.append(found[1])
        return words

    def _command(self, word: str) -> ListedCommand:
        known = ListedCommand(word)
        for form, name in (("=?", "ranges"), ("?", "value")):
            outcome = self._ask(f"AT+{word}{form}")
            if not outcome.ok:
                continue
            text = "\n".join(str(row["line"]) for row in outcome.rows)
            setattr(known, name, re.sub(rf"^\+{word}:\s*", "", text))
        return known


# -- writing it down ------------------------------------------------------------------------------------------------


def kind_of(ranges: str, value: str) -> str | None:
    """The value kind that a `=?` answer of one field stands for, as TOML; None where that cannot be told."""
    inside = re.fullmatch(r"\(([^()]*)\)", ranges.strip())
    if not inside:
        return None
    parts = [part.strip() for part in inside[1].split(",") if part.strip()]
    if parts and all(re.fullmatch(r'"[^"]*"', part) for part in parts):
        names = [part.strip('"') for part in parts]
        return '{ kind = "choice", codes = { ' + ", ".join(f"{_quoted(n)} = {_quoted(n)}" for n in names) + " } }"
    spans: list[tuple[int, int]] = []
    for part in parts:
        found = re.fullmatch(r"(-?\d{1,9})(?:-(\d{1,9}))?", part)
        if not found:
            return None
        spans.append((int(found[1]), int(found[2] or found[1])))
    if not spans or not re.fullmatch(r"-?\d+", value.strip()):
        return None
    spans.sort()
    holes = [(a[1] + 1, b[0] - 1) for a, b in pairwise(spans) if b[0] > a[1] + 1]
    text = f'{{ kind = "int", min = {spans[0][0]}, max = {max(high for _, high in spans)}'
    if holes:
        text += f", holes = [{', '.join(f'[{low}, {high}]' for low, high in holes)}]"
    return text + " }"


def _quoted(text: str) -> str:
    return '"' + visible(text).replace("\\\\", "\\").replace("\\", "\\\\").replace('"', '\\"') + '"'


def draft_lexicon(learned: Learned, family: str) -> str:
    """The lexicon as text."""
    maker = learned.identity.get("maker", ("", ""))[1]
    lines = [
        f"# Drafted by asking the module itself, at {learned.tuning}. Lines marked “guessed” want a look at the datasheet.",
        "format = 1",
        "",
        "[about]",
        f"family = {_quoted(family)}",
        f"maker  = {_quoted(maker)}",
        "",
        "[link]",
        f"rate  = {learned.tuning.rate}   # it answered at this rate; guessed to be the factory default",
        f"frame = {_quoted(learned.tuning.frame)}",
        "",
        "[attention]",
        'how   = "always"   # guessed: it answered without being brought to listen',
        'probe = { say = "AT" }',
        "",
        "[speech]",
        f"end     = {_quoted(learned.end)}",
        'answer  = "lines"',
        f"echo    = {_quoted(learned.echo)}",
        'ok      = ["OK"]',
        f"error   = [{', '.join(dict.fromkeys([_quoted(learned.error), _quoted('ERROR')]))}]",
        'closing = "always"',
        'within  = "2s"   # guessed',
        "",
    ]
    if learned.identity:
        lines += ["[identify]", "ask = ["]
        lines += [
            f"  {{ say = {_quoted(said)}, hear = {_quoted('{' + name + '}')} }},"
            for name, (said, _) in learned.identity.items()
        ]
        lines.append("]")
        if "model" in learned.identity:
            lines.append(f"must = {{ model = {_quoted(learned.identity['model'][1])} }}")
        lines += ['unit = "serial"'] if "serial" in learned.identity else []
        lines.append("")
    if not learned.listed:
        lines += ["# The module has no list of its commands (+CLAC); settings must be written from the datasheet.", ""]
    for known in learned.commands:
        lines += _setting(known)
    return "\n".join(lines).rstrip() + "\n"


def _setting(known: ListedCommand) -> list[str]:
    if known.value is None:
        return []
    kind = kind_of(known.ranges, known.value) if known.ranges else None
    told = f"# +{known.word}: now {visible(known.value)[:80]}" + (
        f", may be {visible(known.ranges)[:120]}" if known.ranges else ""
    )
    if kind is None or "\n" in known.value:
        return [told, "# Not drafted: several fields, or a range that cannot be told. A group may fit.", ""]
    hear, said = f"+{known.word}: {{value}}", f"AT+{known.word}={{value}}"
    if '"' in known.value:
        hear, said = f'+{known.word}: "{{value}}"', f'AT+{known.word}="{{value}}"'
    return [
        told,
        f"[setting.{known.word.lower()}]",
        'meaning = ""   # the datasheet knows',
        f"value   = {kind}",
        f"read    = {{ say = {_quoted(f'AT+{known.word}?')}, hear = {_quoted(hear)} }}",
        f"write   = {{ say = {_quoted(said)} }}   # guessed: it was not tried",
        "",
    ]
