"""LinkDiscovery a module by its lexicon: as every command finds it, with the operator's help if it needs one.

The rule: it is found when it has answered and identified itself.
"""

from __future__ import annotations

from wexicon.core.faults import Fault, Stopped
from wexicon.work.contact.known_links import named
from wexicon.work.module.module import Module
from wexicon.work.results.discovery import Cause, HailResult


def hail_with(module: Module, result: HailResult) -> HailResult:
    """Finds a module by its lexicon."""
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
