"""Writes a dialogue from a recorded session: it sends the same commands and requires the same answers.

The rule: what is likely to be another value next time (addresses, versions, long numbers) becomes a capture; what was
captured once and is heard again must be the same. Every pattern that is written fits what was recorded. What no dialogue can
say or hear is a comment, so that each draft can be read again.
"""

from __future__ import annotations

import contextlib
import math
import re
from collections.abc import Iterable
from itertools import islice

from wexicon.core.dialogue.reader import read_dialogue
from wexicon.core.faults import FileFault
from wexicon.core.protocol.patterns import Pattern
from wexicon.core.protocol.recorded import RecordedExchange
from wexicon.core.text import HIDDEN, has_control, to_bytes, visible
from wexicon.core.tuning import Tuning

_VOLATILE = re.compile(
    r"(?P<address>\b[0-9A-Fa-f]{2}(?:[:.\-][0-9A-Fa-f]{2,}){2,}\b)|(?P<version>(?<![\d.])\d+(?:\.\d+){2,}\b)|(?P<decimal>(?<![\d.])\d+\.\d+\b)"
    r"|(?P<number>\b\d{4,}\b)|(?P<hex>\b(?=[0-9A-F]*\d)[0-9A-F]{6,}\b)"
)
_KINDS = {"address": "address", "version": "word", "decimal": "word", "number": "word", "hex": "word"}
_ODD = re.compile(r"[\x00-\x1f\x7f-\x9f\ud800-\udfff]+")
# The name of a value that was captured before, in a line.
_NAMED = re.compile(r"\{=?([a-z]+\d+)")
ANSWERS = ("answer", "word", "ok", "error", "prompt", "unexpected")
EVENTS = ("event",)
USUAL_TIME = 0.9


def draft_dialogue(exchanges: Iterable[RecordedExchange], title: str = "", start: Tuning | None = None) -> str:
    """The dialogue as text; `start` is how our side is tuned before its first line."""
    return _Draft(start).text(exchanges, title)


class _Draft:
    def __init__(self, start: Tuning | None) -> None:
        # Values that were captured: the name of each, and the value of each name.
        self.captured: dict[str, str] = {}
        self.values: dict[str, str] = {}
        self.counts: dict[str, int] = {}
        self.needs: list[str] = []
        self.tuning = start

    def text(self, exchanges: Iterable[RecordedExchange], title: str) -> str:
        body: list[str] = []
        for exchange in (one for one in exchanges if not one.searching):
            body += self.readable(exchange)
        head = [f"# {line}" for line in visible(title).split("\n") if line]
        return "\n".join([*head, *self.needs, "", *body]).lstrip("\n") + "\n"

    def readable(self, exchange: RecordedExchange) -> list[str]:
        """The lines of an exchange, as comments where they cannot be read."""
        values, needs = len(self.values), len(self.needs)
        lines = self.exchange(exchange)
        new = [*islice(reversed(self.values), len(self.values) - values)]
        known = {name for line in lines for name in _NAMED.findall(line) if name in self.values and name not in new}
        try:
            read_dialogue("\n".join([*(f"needs {name}" for name in known), *self.needs[needs:], *lines]), "")
        except FileFault:
            del self.needs[needs:]
            for name in new:
                self.captured.pop(self.values.pop(name), None)
            said = [f"> {visible(exchange.said)}"] if exchange.said is not None else []
            return [
                f"# cannot be repeated: {one}" for one in (*said, *(f"< {visible(one[1])}" for one in exchange.heard))
            ]
        return lines

    def exchange(self, exchange: RecordedExchange) -> list[str]:
        lines: list[str] = []
        if not exchange.again:
            if self.tuning and exchange.tuning != self.tuning:
                lines.append(f"tune {exchange.tuning}")
            self.tuning = exchange.tuning
        events = [(at, text) for at, text, role in exchange.heard if role in EVENTS and self.clean(text)]
        around = [text for _, text, _ in exchange.heard]
        if exchange.said is not None and not exchange.again:
            answers = [(at, text, role) for at, text, role in exchange.heard if role in ANSWERS]
            if answers and answers[-1][0] > USUAL_TIME:
                lines.append(f"allow {math.ceil(answers[-1][0] * 2)}s")
            if not answers and events:
                # Nothing answers it; what comes is awaited below.
                lines.append("allow 1ms")
            lines.append(self.said(exchange))
            for _, text, role in answers:
                if role == "prompt":
                    lines.append(f'< "{text}"')
                else:
                    lines.append(f"< {self.pattern(text, around)}")
            if not answers:
                lines.append("<")
                if not events and exchange.lasted >= 0.001:
                    lines.append(f"pause {exchange.lasted * 1000:.0f}ms")
        for at, text in events:
            lines += [f"await {max(1, math.ceil(at * 2))}s", f"    < {self.pattern(text, around)}"]
        return lines

    @staticmethod
    def clean(text: str) -> bool:
        return bool(_ODD.sub("", text).strip())

    def name(self, kind: str) -> str:
        self.counts[kind] = self.counts.get(kind, 0) + 1
        return f"{kind}{self.counts[kind]}"

    def said(self, exchange: RecordedExchange) -> str:
        text = exchange.said or ""
        literal = text.replace("{", "{{").replace("}", "}}")
        while HIDDEN in literal:
            name = self.name("secret")
            self.needs.append(f"needs {name} secret")
            literal = literal.replace(HIDDEN, f"{{{name}}}", 1)
        literal = _VOLATILE.sub(self.known, literal)
        if exchange.exact or has_control(text) or _ODD.search(text):
            end = "" if exchange.exact else "\\r\\n"
            return f">> {_escaped(literal)}{end}"
        return f"> {literal}" if literal else ">"

    def known(self, found: re.Match[str]) -> str:
        """A value that was captured before, as its name; anything else as it is."""
        value = found.group()
        return f"{{{self.captured[value]}}}" if len(value) > 5 and value in self.captured else value

    def pattern(self, text: str, around: list[str]) -> str:
        """A pattern for a line, with what is volatile as captures; it fits none of the other lines `around` it."""
        if HIDDEN in text or not self.clean(text):
            return "..."
        source = ""
        at = 0
        added: dict[str, str] = {}
        for found in _VOLATILE.finditer(text):
            source += _literal(text[at : found.start()])
            value = found.group()
            if value in self.captured:
                source += f"{{={self.captured[value]}}}"
            else:
                kind = str(found.lastgroup)
                name = self.name(kind)
                source += f"{{{name}:{_KINDS[kind]}}}"
                added.setdefault(value, name)
            at = found.end()
        source += _literal(text[at:])
        made: Pattern | None = None
        fits: dict[str, object] | None = None
        with contextlib.suppress(ValueError):
            made = Pattern(source)
            fits = made.match(text, self.values)
        wide = made and any(made.match(other, self.values) is not None for other in around if other != text)
        if fits is None or wide or any(added.get(str(value)) != name for name, value in fits.items()):
            source = _literal(text)
        else:
            self.captured |= added
            self.values |= {name: value for value, name in added.items()}
        if source[:1] == '"' and source.rstrip()[-1:] == '"':
            source = f"...{source[1:]}"
        return source


def _literal(text: str) -> str:
    """Text as a pattern has it; what cannot be written on a line is anything."""
    source = ""
    for part in re.split(f"({_ODD.pattern})", text):
        odd = bool(_ODD.fullmatch(part))
        source += "..." if odd else part.replace("{", "{{").replace("}", "}}").replace("...", "{...}")
    return source


def _escaped(text: str) -> str:
    r"""Text for a `>>` line; {name} and doubled braces stay as they are."""
    made = ""
    for char in text:
        if char == "\\":
            made += "\\\\"
        elif _ODD.fullmatch(char):
            made += "".join(f"\\x{byte:02X}" for byte in to_bytes(char))
        else:
            made += char
    return made
