"""Traces that were recorded earlier, as they may be handed on: what today's lexicon knows as a secret is masked, also where it
was recorded in clear, by an older version, without a lexicon, or with a wrong one.

The rule: each file that is made of a trace is made of these records; the trace itself is left as it is.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import lru_cache
from itertools import islice
from pathlib import Path

from wexicon.core.faults import Fault
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.module_state.state import ModuleState
from wexicon.core.protocol.masking import Secrets
from wexicon.core.protocol.observations import Heard, Role, Said
from wexicon.core.protocol.recorded import Recorded
from wexicon.core.text import HIDDEN
from wexicon.core.tuning import Tuning
from wexicon.records.trace import Record, What, read_trace, recorded
from wexicon.records.trace_list import read_info
from wexicon.work.contact.catalog import find_lexicon


def lexicon_of(path: Path) -> Lexicon | None:
    """The lexicon of the module that a trace is of; None where the trace does not tell, or there is none."""
    info = read_info(path)
    return _of_family(info.unit.split()[0]) if info and info.unit.strip() else None


@lru_cache(maxsize=64)
def _of_family(name: str) -> Lexicon | None:
    try:
        return find_lexicon(name)
    except Fault:
        return None


def masked_records(path: Path, lexicon: Lexicon | None = None, most: int | None = None) -> Iterator[Record]:
    """The records of a trace, `most` at most, masked by this lexicon, or the module's own. They are read twice: a secret may
    have been recorded before the line that tells that it is one. Raises what `read_trace` does."""
    lexicon = lexicon or lexicon_of(path)
    secrets = Secrets()
    if lexicon:
        secrets.spare(lexicon.dialect.result_words)
        for pattern, names in lexicon.secret_lines():
            secrets.add_pattern(pattern, names)
    for _, said in _read(path, lexicon, secrets, most):
        for secret in said:
            secrets.learn(secret)
    for record, _ in _read(path, lexicon, secrets, most):
        text = record.content
        if (shown := secrets.mask(text)) != text:
            record.text, record.hex = shown, ""
        record.note = secrets.mask(record.note)
        record.values = {
            name: HIDDEN if secrets.mask(str(one)) != str(one) else one for name, one in record.values.items()
        }
        yield record.encodable()


def masked_session(path: Path, lexicon: Lexicon | None = None) -> Recorded:
    """A trace as exchanges, masked the same way."""
    return recorded(path, masked_records(path, lexicon))


def _read(
    path: Path, lexicon: Lexicon | None, secrets: Secrets, most: int | None
) -> Iterator[tuple[Record, tuple[str, ...]]]:
    """Each record, with what is said in it masked, and what it says that is secret."""
    states: dict[str, ModuleState] = {}
    for record in islice(read_trace(path), most):
        state = states.get(record.party) or states.setdefault(record.party, ModuleState(lexicon, Tuning()))
        said: tuple[str, ...] = ()
        if record.what is What.SAID:
            # A line of which something is masked was recorded with a lexicon: there is nothing to guess.
            guess = HIDDEN not in record.content
            found = state.said(record.content, exact=record.exact, guess=guess)
            state.note(Said(record.at, record.content, record.exact))
            said = tuple(str(one) for one in found.secrets)
            if found.shown is not None:
                record.text, record.hex = found.shown, ""
        elif record.what is What.HEARD:
            secrets.overhear(record.content)
            state.note(Heard(record.at, record.content, record.role or Role.UNMATCHED))
        yield record, said
