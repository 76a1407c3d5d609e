"""One action done with a module, each reply checked; where the module starts again, whether it was seen to.

The rule: an action that has the module start again is only called done when a start was seen.
"""

from __future__ import annotations

from collections.abc import Mapping

from wexicon.work.contact.symptoms import with_cause
from wexicon.work.module.module import Module
from wexicon.work.module.starts import come_back, wait_until_gone
from wexicon.work.provisioning.plan import Plan
from wexicon.work.results.dialogue import ActionResult
from wexicon.work.results.masking import masked
from wexicon.work.results.verdicts import Verdict


def do_action(module: Module, name: str, values: Mapping[str, object], *, plan: bool = False) -> ActionResult:
    """Has the module do something. Faults end in the result. `plan` works out what would be said, and says none of it."""
    session, result = module.session, ActionResult(action=name)
    began = session.clock.now()
    step = "attention"
    try:
        session.begin_step(step, searching=True)
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
    except (Exception, KeyboardInterrupt) as fault:
        with_cause(fault, session, module.lexicon)
        result.ended_by(fault, step, session)
    result.remarks += module.attention.remarks
    result.notes = module.notes
    result.timed(session, began)
    masked(result, session.secrets)
    return result


def _seen(module: Module, name: str, result: ActionResult) -> Verdict:
    """Whether a start was seen, where the action makes one."""
    if not module.lexicon.actions[name].restarts:
        return Verdict.DONE
    if module.attention.needs_operator():
        # It starts in data mode, where it does not answer; the operator is not asked to bring it back for this.
        seen = wait_until_gone(module)
        module.attention.lose()
    else:
        seen = come_back(module)
    result.remarks.append("restart observed" if seen else "no restart observed")
    return Verdict.DONE if seen else Verdict.UNPROVED
