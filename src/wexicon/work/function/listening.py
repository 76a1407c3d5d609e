"""Listening: what a module sends by itself, decoded as it comes, and what it adds up to.

The rule: nothing is said while listening, unless it may ask: then the module is asked at the beginning who it is and which
timers it has, and later for each message that it reports. Every line is counted; nothing grows with time.
"""

from __future__ import annotations

import msgspec

from wexicon.core.engineering.sketches import OverTime
from wexicon.core.faults import CallFault, ModuleFault, Stopped
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.protocol.observations import Finished
from wexicon.core.protocol.session import Session
from wexicon.core.results.functions import HeardEvent, ListeningResult, SeriesSummary
from wexicon.core.results.result import Verdict, masked
from wexicon.core.text import counted, meant, spoken
from wexicon.work.contact.symptoms import with_cause
from wexicon.work.function.ears import DAMAGED, FIX, MESSAGE, NONE, Ears, ListenOrder
from wexicon.work.function.tracks import Positions, States
from wexicon.work.module.module import Module

# How often the queue of events is emptied (seconds): the listener takes each as it comes.
_PASS = 1.0
# How long a pause ends a report, and how long one may be (seconds).
REST, MOST_REST = 0.05, 0.9


class Listened(msgspec.Struct):
    """What came of listening: the result, and what is drawn of it."""

    result: ListeningResult
    positions: Positions
    states: States
    series: dict[tuple[str, str], tuple[str, OverTime]]


def check_order(order: ListenOrder, lexicon: Lexicon | None) -> None:
    """Raises Fault if an event that is named can never come, or what is asked for needs a lexicon, or another one."""
    if lexicon is None:
        if order.action or order.ask or order.check:
            what = f"{order.action or ('--ask' if order.ask else '--check')} needs the lexicon of the module"
            raise CallFault(what, hint="Name it: --lexicon NAME.")
        return
    family, known = lexicon.about.family, [*lexicon.events, MESSAGE, DAMAGED, NONE]
    for one in (*order.only, *([order.until] if order.until not in ("", FIX) else [])):
        if one not in known:
            raise CallFault(f"{family} has no event {one}", hint=meant(one, [*known, FIX]))
    if order.action and order.action not in lexicon.actions:
        raise CallFault(f"{family} has no action {order.action}", hint=meant(order.action, lexicon.actions))


def listen(session: Session, ears: Ears, module: Module | None = None) -> Listened:
    """Listens on a session that reports to `ears`. With a `module` it may ask, and an action is done first. Whatever ends it
    ends in the result."""
    order, lexicon = ears.order, ears.lexicon
    result = ListeningResult(port=session.link.name, lexicon=lexicon.about.family if lexicon else "", until=order.until)
    result.verdict = Verdict.DONE
    began, step = session.clock.now(), "attention"
    try:
        if module and (order.ask or order.action):
            session.begin_step(step, searching=True)
            module.attention.gain([*module.likely, module.lexicon.factory])
            step = "identify"
            session.begin_step(step)
            result.identity = dict(module.identify())
            if order.ask:
                _read_timers(module, ears)
            if step := order.action:
                session.begin_step(step)
                module.do(order.action, {})
        step = "listen"
        session.begin_step(step)
        session.events.clear()
        ears.begin(session)
        if order.action:
            ears.positions.start(0.0, order.action)
        _hear(session, ears, module)
        if order.until and ears.reached is None:
            what = f"{order.until} did not come within {spoken(order.duration or 0.0)}"
            why = ears.positions.why_not() if order.until == FIX else ""
            raise ModuleFault(what, where=session.link.name, hint=why[:1].upper() + why[1:])
    except Stopped as fault:
        if step != "listen" or order.duration is not None or order.until:
            result.ended_by(fault, step, session)
    except (Exception, KeyboardInterrupt) as fault:
        if step != "listen":
            with_cause(fault, session, lexicon)
        result.ended_by(fault, step, session)
    session.listener.flush()
    result.timed(session, ears.began if ears.open else began)
    _add_up(result, ears, session)
    if order.check and result.failure is None:
        _check(result, ears)
    unit = lexicon.unit_of(result.identity) if lexicon else ""
    session.tell(Finished(session.clock.now(), "listen", unit, str(result.verdict)))
    session.listener.flush()
    masked(result, session.secrets)
    return Listened(result, ears.positions, ears.states, ears.series)


def _read_timers(module: Module, ears: Ears) -> None:
    """What was asked of the network and what it granted, as the module has it now."""
    for track in ears.states.timers:
        if track.granted is not None:
            continue
        setting = module.lexicon.settings[track.timer.setting]
        if not setting.readable:
            continue
        read = module.settings.read([setting.name]).get(setting.name)
        value = read.value if read else None
        granted = module.settings.granted(setting.name)
        track.read(
            float(value) if isinstance(value, int) else None,
            float(granted.value) if granted and isinstance(granted.value, int) else None,
        )


def _hear(session: Session, ears: Ears, module: Module | None) -> None:
    order, clock = ears.order, session.clock
    until = None if order.duration is None else clock.now() + order.duration
    asks = module if order.ask else None
    done = lambda: ears.reached is not None or bool(asks and (ears.waiting or ears.states.due))  # noqa: E731
    while (until is None or clock.now() < until) and ears.reached is None:
        soon = clock.now() + _PASS
        session.listen(soon if until is None else min(soon, until), done)
        session.events.clear()
        if asks and ears.waiting:
            _read_message(asks, ears)
        if asks and ears.states.due:
            # The network grants timers with a registration: right before one runs they are there, and the module is awake.
            ears.states.due = False
            _read_timers(asks, ears)
    if order.until == FIX and ears.reached is not None:
        _hear_out(session)


def _hear_out(session: Session) -> None:
    """The rest of the report that had the fix."""
    session.wait_until_quiet(REST, MOST_REST)
    session.events.clear()


def _read_message(module: Module, ears: Ears) -> None:
    """Reads the message that was reported."""
    message, values = module.lexicon.listening.message, ears.waiting.popleft()
    assert message
    try:
        kept = module.do(message.read, dict(values))
    except ModuleFault as fault:
        module.session.log(f"the message cannot be read: {fault.what}")
        return
    now = module.session.clock.now()
    at, wall = round(now - ears.began, 3), module.session.clock.wall(now)
    sender, text = str(kept.get("sender", "")), str(kept.get("message", ""))
    told = {"sender": sender, "message": text}
    if ears.join(at, sender, text, str(kept.get("part", "")), str(kept.get("reference", ""))):
        told["message"] = ears.messages[-1].text
    else:
        told["part"] = str(kept["part"])
    if not ears.order.only or MESSAGE in ears.order.only:
        ears.show(HeardEvent(at=at, wall=wall, name=MESSAGE, values=told))


def _add_up(result: ListeningResult, ears: Ears, session: Session) -> None:
    if not ears.open:
        return
    ears.states.end(session.clock.now() - ears.began)
    result.events = dict(sorted(ears.counts.items()))
    result.unknown, result.damaged, result.starts = ears.unknown, ears.damaged, ears.starts
    result.reached = None if ears.reached is None else round(ears.reached, 6)
    result.position = ears.positions.summary()
    result.satellites = ears.positions.in_view()
    result.states = [track.summary() for track in ears.states.tracks.values()]
    result.timers = [track.summary() for track in ears.states.timers if track.count or track.missed or track.asked]
    result.series = [
        SeriesSummary(
            event=event,
            name=name,
            unit=unit,
            count=one.count,
            least=one.whole.least,
            mean=one.whole.mean,
            most=one.whole.most,
        )
        for (event, name), (unit, one) in ears.series.items()
        if one.whole
    ]
    result.messages = list(ears.messages)
    result.remarks += _remarks(result, ears)


def _check(result: ListeningResult, ears: Ears) -> None:
    """Each timer must have been observed, and each time as it was granted; as it was asked, if the module does not report what
    was granted."""
    wrong, unread = [], False
    for one in ears.states.timers:
        name = one.timer.setting
        setting = ears.lexicon.settings[name] if ears.lexicon else None
        reported = setting and setting.granted
        if not one.count:
            wrong.append(f"{name} was not observed")
        elif one.wanted is None or (one.granted is None and reported):
            wrong.append(f"{name} was observed, but what was granted was not read")
            unread = True
        elif found := one.differences():
            wrong += found
        elif one.within < one.count:
            wrong.append(f"{name}: only {one.within} of {one.count} times were compared with what was granted")
    if wrong or not ears.states.timers:
        what = "; ".join(wrong) or "the lexicon has no timers to check"
        hint = "Let it be asked: --ask." if unread and not ears.order.ask else ""
        result.ended_by(ModuleFault(what, where=result.port, hint=hint), "check")


def _remarks(result: ListeningResult, ears: Ears) -> list[str]:
    told = []
    if not result.events and not result.unknown and not result.damaged:
        told.append("nothing came: if something should have, check rate, wires and power with wexicon hail")
    if result.damaged:
        whole = sum(result.events.values()) + result.unknown + result.damaged
        told.append(
            f"{result.damaged} of {whole} lines were damaged: a wrong rate, noise, or more than the rate can carry"
        )
    told += ears.halves()
    if result.starts > ears.restarting:
        told.append(f"the module started {counted(result.starts, 'time')} while listening")
    if (position := result.position) and not position.fixes and not result.failure:
        told.append(f"no fix: {ears.positions.why_not()}")
    elif position and position.fixes and position.first_fix is None:
        told.append("it had a fix when listening began: the time to the first fix was not observed")
    return told
