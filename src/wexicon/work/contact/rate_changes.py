"""Which lines change the module's rate, and to which.

The rule: a line is known by its lexicon's own words, or by ITU-T V.250; of any other nothing is assumed.
"""

from __future__ import annotations

import re
from contextlib import suppress

from wexicon.core.formats.lexicon import Lexicon, Moves
from wexicon.core.protocol.elements import field
from wexicon.core.protocol.insertion import Template
from wexicon.core.tuning import Tuning
from wexicon.core.values import ValueFault


def new_rate(lexicon: Lexicon | None, text: str) -> tuple[int, str] | None:
    """The rate to which a line moves the module, and when, in words; None if it is no such line. Without a lexicon ITU-T V.250,
    6.2.10 is known."""
    for setting in lexicon.settings.values() if lexicon else ():
        coded = put_in(setting.write.say, text) if setting.write and setting.kind.rates() else None
        if coded is not None:
            with suppress(ValueFault):
                value = setting.kind.decode(coded)
                when = {Moves.SAVE: "once it is saved", Moves.RESTART: "after a restart", Moves.LEAVE: "in data mode"}
                rate = setting.kind.apply_to(Tuning(), value).rate
                return rate, when.get(setting.moves_link or Moves.AT_ONCE, "now")
    found = re.fullmatch(r"AT\+IPR=(\d{3,7})", text.strip(), re.IGNORECASE)
    return (int(found[1]), "now") if found else None


def put_in(template: Template, text: str) -> str | None:
    """What is in a line where a template with one insertion has it; None where the line is another. A field of bytes is read as
    what it stands for."""
    if len(template.names) != 1:
        return None
    before, after = template.lead, template.tail
    (_, filters) = next(template.insertions())
    form = field(filters[-1]) if filters else None
    if form is not None:
        before, after, text = ("".join(one.split()) for one in (before, after, text))
        inside = text[len(before) : len(text) - len(after)].upper()
        fits = text.startswith(before) and text.endswith(after) and re.fullmatch(form.run(), inside)
        return str(form.of_hex(inside)) if fits else None
    if text.startswith(before) and text.endswith(after) and len(text) >= len(before) + len(after):
        return text[len(before) : len(text) - len(after)]
    return None
