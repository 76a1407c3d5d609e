"""One action done with a module, each reply checked; where the module starts again, whether it was seen to.

The rule: an action that has the module start again is only called done when a start was seen.
"""

from __future__ import annotations

from collections.abc import Mapping

from wexicon.core.protocol.observations import Finished
from wexicon.core.results.result import Verdict, masked
from wexicon.core.results.unit import ActionResult
from wexicon.work.contact.symptoms import with_cause
from wexicon.work.module.module import Module
from wexicon.work.module.starts import come_back, wait_until_gone
from wexicon.work.provisioning.plan import Plan

NOT_SEEN = "no restart observed"


def do_action(module: Module, name: str, values: Mapping[str, object], *, plan: bool = False) -> ActionResult:
    """Has the module do something. Faults end in the result. `plan` works out what would be said, and says none of it."""
    session, result = module.session, ActionResult(action=name)
    began = session.clock.now()
    step = "attention"
    try:
        action = module.lexicon.actions.get(name)
        if action is None or action.needs_attention or plan:
            session.begin_step(step, searching=True)
            module.attention.gain([*module.likely, module.lexicon.factory])
            step = "identify"
            session.begin_step(step)
            result.identity = dict(module.identify())
        before = _all_of(module) if action and action.loads and result.identity and not plan else {}
        step = name
        session.begin_step(step, most=action.program.may_take() if action else 0.0)
        if plan:
            module.given.update(values)
            made = Plan(module, {})
            made.actions([name])
            result.plan, result.verdict = made.lines, Verdict.PLANNED
        else:
            ordered = session.clock.now()
            result.kept = module.do(name, values)
            result.verdict = _seen(module, name, result, ordered)
            if action and action.loads:
                step = "read what was loaded"
                session.begin_step(step)
                _tell_loaded(module, before, result)
        if module.attention.held and "leave" in module.lexicon.actions and name != "leave":
            step = "leave"
            module.do(step)
    except (Exception, KeyboardInterrupt) as fault:
        with_cause(fault, session, module.lexicon)
        result.ended_by(fault, step, session)
    result.remarks += module.attention.remarks
    result.notes = module.notes
    result.timed(session, began)
    unit = module.lexicon.unit_of(result.identity)
    session.tell(Finished(session.clock.now(), f"do {name}", unit, str(result.verdict)))
    masked(result, session.secrets)
    return result


def _all_of(module: Module) -> dict[str, str]:
    """Every setting that can be read, as it is shown, and what the module says of itself."""
    settings = module.lexicon.settings
    found = module.settings.read([name for name, one in settings.items() if one.readable and not one.secret])
    return {**module.identity, **{name: one.shown(settings[name]) for name, one in found.items()}}


def _tell_loaded(module: Module, before: Mapping[str, str], result: ActionResult) -> None:
    """Another image can change everything: identity and settings are read again. Only another identity shows that the image
    runs, or any identity of a module that waited in its boot loader: one that answers as before may have thrown it away. Raises
    Fault."""
    if not module.attention.held:
        module.attention.gain([*module.expected_links(), module.lexicon.factory])
    unit = module.lexicon.unit
    if unit and result.identity:
        module.identify_again(result.identity)
    result.identity = dict(module.identify())
    if not before or any(before.get(name) != told for name, told in result.identity.items()):
        result.verdict = Verdict.DONE
        result.remarks = [one for one in result.remarks if one != NOT_SEEN]
    else:
        result.verdict = Verdict.UNPROVED
    after = _all_of(module)
    changed = [
        f"{name} {before[name]} before, {after.get(name, 'not there')} now"
        for name in before
        if before[name] != after.get(name)
    ]
    told = f"loaded: {', '.join(changed)}" if changed else "identity and settings are as before"
    proof = (
        ""
        if result.verdict is Verdict.DONE
        else "; nothing shows that the module runs the image: its identity is as before"
    )
    result.remarks.append(told + proof)
    if not before:
        result.remarks[-1] = "loaded: identity read; what the settings were before is not known"


def _seen(module: Module, name: str, result: ActionResult, since: float) -> Verdict:
    """Whether a start was seen, where the action, ordered at the time `since`, makes one."""
    if not module.lexicon.actions[name].restarts:
        return Verdict.DONE
    if module.attention.needs_operator():
        # It starts in data mode, where it does not answer; the operator is not asked to bring it back for this.
        seen = wait_until_gone(module)
        module.attention.lose()
    else:
        seen = come_back(module, since)
    result.remarks.append("restart observed" if seen else NOT_SEEN)
    return Verdict.DONE if seen else Verdict.UNPROVED
