"""One action done with a module, each reply checked; where the module starts again, whether it was seen to.

The rule: an action that has the module start again is only called done when a start was seen.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import msgspec

from wexicon.core.faults import Fault, Stopped
from wexicon.work.module import Module
from wexicon.work.planning import Plan
from wexicon.work.results import Failure, PlannedLine, Verdict, redacted, traceback_of
from wexicon.work.starting import come_back, wait_until_gone


class ActionResult(msgspec.Struct):
    """What came of an action: `done` where its replies were right, `unproved` where a start was not seen. `kept` is what its
    dialogue kept, `remarks` what was noticed besides."""

    action: str
    verdict: Verdict = Verdict.FAILED
    port: str = ""
    lexicon: str = ""
    identity: dict[str, str] = {}
    plan: list[PlannedLine] = []
    kept: dict[str, Any] = {}
    remarks: list[str] = []
    failure: Failure | None = None
    exchanges: int = 0
    seconds: float = 0.0
    trace: str = ""

    @property
    def status(self) -> int:
        """The exit status that it stands for."""
        return 4 if self.verdict is Verdict.UNPROVED else self.failure.status if self.failure else 0


def do_action(module: Module, name: str, values: Mapping[str, Any], *, plan: bool = False) -> ActionResult:
    """Has the module do something. Faults end in the result. `plan` works out what would be said, and says none of it."""
    session, result = module.session, ActionResult(name)
    began = session.clock.now()
    step = "attention"
    try:
        session.begin_step(step)
        module.attention.gain([*module.likely, module.lexicon.factory])
        step = "identify"
        session.begin_step(step)
        result.identity = dict(module.identify())
        step = name
        session.begin_step(step)
        if plan:
            module.given.update(values)
            made = Plan(module, {})
            made.actions([name])
            result.plan, result.verdict = made.lines, Verdict.PLANNED
        else:
            result.kept = module.do(name, values)
            result.verdict = _seen(module, name, result)
        if module.attention.held and "leave" in module.lexicon.actions and name != "leave":
            step = "leave"
            module.do(step)
    except Fault as fault:
        result.verdict = Verdict.STOPPED if isinstance(fault, Stopped) else Verdict.FAILED
        result.failure = Failure.of(fault, step)
    except (Exception, KeyboardInterrupt) as fault:
        result.failure = Failure.unforeseen(fault, step)
        result.verdict = Verdict.STOPPED if result.failure.status == 130 else Verdict.FAILED
        session.decide(f"unforeseen: {traceback_of(fault)}")
    result.remarks += module.attention.remarks
    result.exchanges, result.seconds = session.exchanges, round(session.clock.now() - began, 6)
    redacted(result, session.secrets)
    return result


def _seen(module: Module, name: str, result: ActionResult) -> Verdict:
    """Whether a start was seen, where the action makes one."""
    if not module.lexicon.actions[name].restarts:
        return Verdict.DONE
    if module.attention.needs_hands():
        # It starts in data mode, where it no longer answers; nobody is asked to bring it back for this.
        seen = wait_until_gone(module)
        module.attention.lose()
    else:
        seen = come_back(module)
    result.remarks.append("restart observed" if seen else "no restart observed")
    return Verdict.DONE if seen else Verdict.UNPROVED
