"""What came of hailing a port: the tries, the link, the lexicons that fit, and what to do next. Also the way by a lexicon.

The rule: a result tells what was heard; who reads it decides nothing more.
"""

from __future__ import annotations

import msgspec

from wexicon.core.faults import Fault, Stopped
from wexicon.core.formats.lexicon import Lexicon
from wexicon.work.causes import Cause
from wexicon.work.memory import named
from wexicon.work.module import Module


class Attempt(msgspec.Struct):
    """One thing asked (empty: only listened) on one link, and what came: `nothing`, `garbage`, `echo` or `words`."""

    rate: int
    frame: str
    end: str
    asked: str
    came: str
    heard: str
    seconds: float


class ByHand(msgspec.Struct):
    """A family that listens only after something was done by hand: what that is, and the command that waits for it."""

    lexicon: str
    operator: str
    command: str


class HailResult(msgspec.Struct):
    """What was found on a port. `lexicons` are those that fit, the likeliest first; `cause` says what it points to where no
    answer came, or none that makes sense; `by_hand` are families that cannot be found without hands; `command` is what to
    type next."""

    port: str
    found: bool = False
    rate: int = 0
    frame: str = ""
    end: str = ""
    echo: bool | None = None
    family: str = ""
    lexicons: list[str] = []
    identity: dict[str, str] = {}
    said: str = ""
    cause: Cause | None = None
    by_hand: list[ByHand] = []
    remarks: list[str] = []
    command: str = ""
    tries: list[Attempt] = []
    seconds: float = 0.0
    trace: str = ""

    @property
    def status(self) -> int:
        """The exit status that it stands for."""
        return 0 if self.found else 3


def all_lexicons() -> list[Lexicon]:
    """Every lexicon that can be named and read."""
    from wexicon.work.finding import find_lexicon, lexicon_files

    found: dict[str, Lexicon] = {}
    for name, _ in lexicon_files():
        if name not in found:
            try:
                found[name] = find_lexicon(name)
            except Fault:
                continue
    return list(found.values())


def hail_with(module: Module, result: HailResult) -> HailResult:
    """Finds a module by its lexicon: as every command does, with its attention got by hands where that needs them."""
    session, lexicon = module.session, module.lexicon
    began = session.clock.now()
    try:
        link = module.attention.gain([*module.likely, lexicon.factory])
        identity = module.identify()
    except Stopped:
        raise
    except Fault as fault:
        result.cause = Cause("", fault.what, fault.hint)
    else:
        result.found, result.rate, result.frame, result.identity = True, link.rate, link.frame, dict(identity)
        result.end, result.family, result.lexicons = session.dialect.speech.end, lexicon.about.family, [named(lexicon)]
        result.command = f"wexicon readout {session.link.name}"
    result.remarks += module.attention.remarks
    result.seconds = round(session.clock.now() - began, 6)
    return result
