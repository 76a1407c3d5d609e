"""Having a module start again, and seeing that it did.

The rule: a start is believed when it was seen: a start or ready word, silence and then an answer, command mode gone, an
answer at the rate that it starts with. A module that goes on answering in its old session has not started.
"""

from __future__ import annotations

from wexicon.core.faults import Unreachable
from wexicon.core.formats.lexicon import AttentionBy
from wexicon.core.tuning import Tuning
from wexicon.work.contact.attention import POWER_OFF
from wexicon.work.module.module import Module
from wexicon.work.results.verdicts import Evidence, Prove

# How long a module may go on answering after it said that it will start again, where the lexicon does not say.
GOES_WITHIN = 1.5
# How much longer than the lexicon says a start may take before the whole search begins.
LATE_START = 1.5
# A module may start and answer again between two looks that are this far apart (seconds): on a busy machine the restart is
# then repeated, so many times at most.
UNWATCHED = 0.15
MOST_RESTARTS = 3
POWER_CYCLE = "Take the module's power away for two seconds, then give it back."


def strongest(module: Module, asked: Prove) -> Evidence:
    """The start that can be made for what is asked; READING where none can."""
    operator, attention, lexicon = module.operator, module.attention, module.lexicon
    if asked is Prove.READING:
        return Evidence.READING
    comes_back = not attention.needs_operator() or operator.there
    power = attention.fixture.has([lexicon.attention.power]) or operator.cuts_power
    if asked is Prove.POWER:
        return Evidence.POWER if power or operator.there else Evidence.READING
    if asked is Prove.AUTO and comes_back:
        if power:
            return Evidence.POWER
        if lexicon.attention.power_up and attention.needs_operator() and lexicon.restart():
            return Evidence.POWER
    return Evidence.RESTART if lexicon.restart() and comes_back else Evidence.READING


def start(module: Module, how: Evidence) -> Evidence:
    """Has the module start again; gives what was seen: POWER, RESTART, or READING where no start was."""
    if how is Evidence.POWER:
        return _by_power(module)
    if how is Evidence.RESTART:
        return Evidence.RESTART if _restart(module) else Evidence.READING
    return Evidence.READING


def _restart(module: Module) -> bool:
    """Restarts the module until the start was seen, or was certainly not made; whether it was seen."""
    for _ in range(MOST_RESTARTS):
        said = module.session.clock.now()
        module.do(module.lexicon.restart())
        seen, unwatched = _come_back(module, said)
        if seen or unwatched < UNWATCHED:
            return seen
    return False


def _by_power(module: Module) -> Evidence:
    session, attention, lexicon = module.session, module.attention, module.lexicon
    power = lexicon.attention.power
    if lexicon.attention.power_up:
        # Attention is had at power-up only: taking it again is the power cycle.
        gone = False
        if lexicon.restart() and attention.needs_operator() and not module.operator.cuts_power:
            # With a person, the module is sent away first, so that it is seen to come back.
            module.do(lexicon.restart())
            gone = wait_until_gone(module)
        _apply_pending(module)
        attention.lose()
        attention.gain(module.expected_links(), just_left=True, by_operator=True)
        return Evidence.POWER if module.operator.cuts_power or gone else Evidence.READING
    if attention.fixture.has([power]):
        attention.fixture.drive(session, {power: False})
        session.quiet(POWER_OFF)
        attention.fixture.drive(session, {power: True})
        seen = True
    else:
        session.asked("power-cycle", POWER_CYCLE)
        module.operator.ask("power-cycle", POWER_CYCLE)
        seen = module.operator.cuts_power or wait_until_gone(module, attention.patience)
    _apply_pending(module)
    # A ready word is waited for where our side is tuned to hear it.
    own = lexicon.attention.tuning
    if not own and module.expected_links()[0] == session.link.tuning:
        _heard_ready(module)
    _find_again(module, just_left=seen)
    module.operator.noticed()
    return Evidence.POWER if seen else Evidence.READING


def come_back(module: Module) -> bool:
    """After an action that has the module start again: waits for it, and gets its attention; whether the start was seen."""
    return _come_back(module, module.session.clock.now())[0]


def _come_back(module: Module, since: float) -> tuple[bool, float]:
    """Whether the start was seen, and the longest time since `since` without a look (seconds)."""
    _apply_pending(module)
    if _heard_ready(module):
        _find_again(module, just_left=False)
        return True, 0.0
    # A module with a ready word was listened to until now.
    gone, unwatched = _watched(module, module.session.clock.now() if module.lexicon.start.ready else since)
    _find_again(module, just_left=gone)
    return gone, unwatched


def _heard_ready(module: Module) -> bool:
    """Waits for the word with which the module says that it listens; false where it has none, or it did not come."""
    session, start_ = module.session, module.lexicon.start
    ready = start_.ready
    if ready is None:
        return False
    # What was sent before at another rate may are in front of the ready word, on the same line.
    whole = ready.source == ready.start
    came = session.wait_for(
        lambda event: ready.match(event.text) is not None or (whole and event.text.endswith(ready.source)),
        session.clock.now() + start_.within + LATE_START,
    )
    return came is not None


def _apply_pending(module: Module) -> None:
    """Rates that take effect with the next start count now."""
    for _, setting, value in module.pending:
        module.data_link = setting.kind.apply_to(module.data_link, value)
    module.pending.clear()


def wait_until_gone(module: Module, patience: float = 0.0) -> bool:
    """Waits until the module no longer answers; false where it goes on answering."""
    return _watched(module, module.session.clock.now(), patience)[0]


def _watched(module: Module, since: float, patience: float = 0.0) -> tuple[bool, float]:
    """Whether the module stopped answering, and the longest time between two looks since `since` (seconds)."""
    session, attention = module.session, module.attention
    looked, unwatched = since, 0.0
    here = module.lexicon.attention.tuning or session.link.tuning
    until = session.clock.now() + max(patience, module.lexicon.start.within, GOES_WITHIN)
    while session.clock.now() < until:
        session.heed_stop()
        now = session.clock.now()
        looked, unwatched = now, max(unwatched, now - looked)
        if not attention.answers_at(here):
            return True, unwatched
        session.quiet(0.03)
    return False, unwatched


def _find_again(module: Module, *, just_left: bool) -> None:
    """Where it answers now: the links that it may start with, over and over, then the search."""
    session, attention, lexicon = module.session, module.attention, module.lexicon
    links: list[Tuning] = module.expected_links()
    if lexicon.attention.how is AttentionBy.ALWAYS:
        until = session.clock.now() + lexicon.start.within + LATE_START
        while session.clock.now() < until:
            for link in links:
                session.heed_stop()
                if attention.answers_at(link):
                    attention.held = True
                    attention.spoke()
                    attention.unlock()
                    return
    attention.lose()
    if attention.needs_operator() and not module.operator.there:
        raise Unreachable(
            "the module started again, and there is no operator to bring it back to command mode",
            where=session.link.name,
            hint=lexicon.attention.operator,
        )
    attention.gain(links, just_left=just_left and lexicon.attention.how is not AttentionBy.CONTROL_LINE)
