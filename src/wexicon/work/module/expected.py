"""What answers a line that was given without its answer: typed by hand, or from a file of plain lines.

The rule: what the lexicon knows of the line is what is expected; of any other, lines up to the final result code.
"""

from __future__ import annotations

from wexicon.core.dialogue.blocks import Say
from wexicon.core.formats.lexicon import Group, Lexicon, Setting
from wexicon.core.protocol.dialect import Dialect
from wexicon.core.protocol.patterns import Pattern
from wexicon.core.protocol.reply import Expectation, Want

LINES = Expectation((Want(Pattern("{line}"), gather=True),))
_LINE = Expectation((Want(Pattern("{line}")),))


def expected(lexicon: Lexicon | None, dialect: Dialect, text: str) -> tuple[Expectation, float | None]:
    """What answers a line, and how long that may take (seconds; None: as the dialect says)."""
    if lexicon:
        phrases = [lexicon.attention.probe, *lexicon.identify, *lexicon.also]
        readers: list[Setting | Group] = [*lexicon.settings.values(), *lexicon.groups.values()]
        phrases += [one.read for one in readers if one.read]
        for phrase in phrases:
            if phrase.say.source == text:
                return phrase.expect, phrase.within
        for action in lexicon.actions.values():
            for statement in action.program.walk():
                if isinstance(statement, Say) and statement.source == text and not statement.exact:
                    return statement.expectation, None
    speech = dialect.speech
    ends = dialect.form == "lines" and (speech.closing == "prompt" or (speech.closing == "always" and speech.ok))
    return (LINES if ends else _LINE), None
