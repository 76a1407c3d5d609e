"""Has a module start again, and sees whether it did: by its start-up message, or by a witness, a setting whose unsaved change
the restart undoes.

The rule: what is done here proves nothing; whether the module started is read from the ledger of what it did. A witness is
written down before it is changed, and put back if the restart did not undo it.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping

from wexicon.core.faults import Unreachable
from wexicon.core.formats.lexicon import AttentionBy, Lexicon, Moves
from wexicon.core.formats.lexicon.extending import load_of
from wexicon.core.module_state.starts import is_ready_text
from wexicon.core.results.result import Evidence, Prove
from wexicon.core.tuning import Tuning
from wexicon.core.values import UNSET, Value
from wexicon.work.contact.ledger import LONGER, CycleAsked, Planted, Sign, Silences, Stayed, Undone
from wexicon.work.module.module import Module

# How long a module may go on answering after it said that it will start again, where the lexicon does not say.
GOES_WITHIN = 1.5
# How much longer than the lexicon says a start may take before the whole search begins.
LATE_START = 1.5
# A module may start and answer again between two looks that are this far apart (seconds): on a busy machine the restart is
# then repeated, so many times at most.
UNWATCHED = 0.15
MOST_RESTARTS = 3
# Between two looks at a module that goes on answering (seconds).
BETWEEN_LOOKS = 0.03
POWER_CYCLE = "Take the module's power away for two seconds, then give it back."


def announces_starts(lexicon: Lexicon) -> bool:
    """Whether each start is heard by the module's ready text: it comes on the link on which commands are answered."""
    attention = lexicon.attention
    return lexicon.start.ready is not None and attention.how is AttentionBy.ALWAYS and not attention.tuning


def strongest(module: Module, asked: Prove) -> Evidence:
    """The start that can be made for what is asked; READING where none can."""
    operator, attention, lexicon = module.operator, module.attention, module.lexicon
    if asked is Prove.READING:
        return Evidence.READING
    comes_back = not attention.needs_operator() or operator.there
    if asked is Prove.POWER:
        return Evidence.POWER if attention.power.there() or operator.there else Evidence.READING
    if asked in (Prove.AUTO, Prove.TWICE) and comes_back:
        if attention.power.there():
            return Evidence.POWER
        if lexicon.attention.power_up and attention.needs_operator() and lexicon.restart():
            return Evidence.POWER
    return Evidence.RESTART if lexicon.restart() and comes_back else Evidence.READING


def start(module: Module, how: Evidence, undone: Callable[[], bool] | None = None) -> set[Sign]:
    """Has the module start again; gives the signs of a start that were observed. Evidence of READING makes no start. `undone`
    asks the module whether it has undone its witness, if that was changed."""
    ledger = module.attention.ledger
    first = len(ledger.entries)
    _answers_now(module)
    if how is Evidence.POWER:
        _by_power(module)
    elif how is Evidence.RESTART and undone and module.lexicon.attention.how is AttentionBy.ALWAYS:
        _restart_once(module, undone)
    elif how is Evidence.RESTART:
        _restart(module, first)
    return ledger.signs(first)


def _answers_now(module: Module) -> None:
    """Silence counts only of a module that has just answered."""
    attention = module.attention
    if attention.held and not attention.ledger.just_answered(str(module.session.link.tuning)):
        attention.answers_at(module.session.link.tuning, attention.patient())


def _restart(module: Module, first: int) -> None:
    """Restarts the module until a start was observed, or was certainly not made."""
    ledger = module.attention.ledger
    for _ in range(MOST_RESTARTS):
        said = module.session.clock.now()
        module.do(module.lexicon.restart())
        unwatched = _come_back(module, said)
        if ledger.signs(first) or unwatched < UNWATCHED:
            return


def _restart_once(module: Module, undone: Callable[[], bool]) -> None:
    """Restarts the module, and asks until it has undone its witness: how long it was silent does not matter."""
    session, attention, lexicon = module.session, module.attention, module.lexicon
    said = session.clock.now()
    module.do(lexicon.restart())
    _apply_pending(module)
    if _heard_ready(module, said):
        _find_again(module, just_left=False)
        return
    until = session.clock.now() + lexicon.start.within + GOES_WITHIN
    while session.clock.now() < until:
        for link in module.expected_links():
            session.heed_stop()
            session.tune(link)
            if undone():
                attention.held = True
                attention.spoke()
                attention.open_up()
                return
        session.quiet(BETWEEN_LOOKS)
    _find_again(module, just_left=False)


def _by_power(module: Module) -> None:
    session, attention, lexicon = module.session, module.attention, module.lexicon
    if lexicon.attention.power_up and not lexicon.attention.window:
        # It can be brought to listen at power-up only: doing that again is the power cycle.
        if attention.needs_operator() and not attention.power.there() and lexicon.restart():
            # With a person, the module is sent away first, so that it is seen to come back.
            module.do(lexicon.restart())
            _watched(module)
        elif attention.power.there() and not attention.fixture.has([lexicon.attention.power]):
            attention.cut_power(stays_off=True)
        _apply_pending(module)
        attention.lose()
        attention.gain(module.expected_links(), just_left=True, by_operator=True)
        return
    began = session.clock.now()
    if attention.power.there():
        attention.cut_power()
    else:
        session.asked("power-cycle", POWER_CYCLE)
        attention.ledger.note(CycleAsked(session.clock.now()))
        module.operator.ask("power-cycle", POWER_CYCLE)
        _watched(module, attention.patience)
    _apply_pending(module)
    # A ready text is waited for where our side is tuned to hear it.
    if announces_starts(lexicon) or (
        not lexicon.attention.tuning and module.expected_links()[0] == session.link.tuning
    ):
        _heard_ready(module, began)
    _find_again(module, just_left=True)
    module.operator.noticed()


def come_back(module: Module, since: float) -> bool:
    """After an action, ordered at the time `since`, that has the module start again: waits for it, and gets its attention;
    whether a start was observed."""
    ledger = module.attention.ledger
    first = next((at for at, entry in enumerate(ledger.entries) if entry.at >= since), len(ledger.entries))
    _come_back(module, since)
    return bool(ledger.signs(first))


def _come_back(module: Module, since: float) -> float:
    """Watches the module until it answers again; the longest time since `since` without a look (seconds)."""
    _apply_pending(module)
    if _heard_ready(module, since):
        _find_again(module, just_left=False)
        return 0.0
    # A module with a ready text was listened to until now.
    gone, unwatched = _watched(module, since=module.session.clock.now() if module.lexicon.start.ready else since)
    _find_again(module, just_left=gone)
    return unwatched


def _heard_ready(module: Module, since: float) -> bool:
    """Waits for the text by which the module says that it listens, after the time `since`; false where it has none, or it did
    not come."""
    session, start_ = module.session, module.lexicon.start
    ready = start_.ready
    if ready is None:
        return False
    if not module.lexicon.attention.tuning:
        # It comes at the rate with which the module starts.
        session.tune(module.expected_links()[0])
    until = session.clock.now() + start_.within + LATE_START
    return session.wait_for(lambda event: is_ready_text(ready, event.text), until, since) is not None


def _apply_pending(module: Module) -> None:
    """Rates that take effect with the next start count now."""
    module.state.move_due({Moves.SAVE, Moves.RESTART, Moves.LEAVE}, module.session.clock.now(), "it was to start again")


def wait_until_gone(module: Module) -> bool:
    """Waits until the module no longer answers; false where it goes on answering."""
    return _watched(module)[0]


def _watched(module: Module, patience: float = 0.0, since: float | None = None) -> tuple[bool, float]:
    """Asks the module again and again until it is silent for longer than any answer took. Whether that was so, and the longest
    time between two looks since `since` (seconds)."""
    session, attention = module.session, module.attention
    ledger, watched = attention.ledger, Silences()
    for entry in ledger.entries:
        watched.feed(entry, 0.0)
    taken = len(ledger.entries)
    now = session.clock.now()
    looked, unwatched = now if since is None else since, 0.0
    limit = LONGER * ledger.slowest()
    until = now + max(patience, module.lexicon.start.within, GOES_WITHIN, 2 * limit)
    # Where it answered before: a rate that it only has after a start may be tuned already.
    session.tune(attention.observer.answered_at or session.link.tuning)
    while (now := session.clock.now()) < until:
        session.heed_stop()
        looked, unwatched = now, max(unwatched, now - looked)
        answered = attention.ask(module.lexicon.attention.probe, attention.observer.quick_look()).ok
        for entry in ledger.entries[taken:]:
            watched.feed(entry, limit)
        taken = len(ledger.entries)
        if watched.lasts(limit) and (not watched.asked or watched.by_person()):
            return True, unwatched
        if answered:
            session.quiet(BETWEEN_LOOKS)
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
                    attention.open_up()
                    return
    attention.lose()
    if attention.needs_operator() and not module.operator.there:
        raise Unreachable(
            "the module started again, and there is no operator to bring it back to command mode",
            where=session.link.name,
            hint=lexicon.attention.operator,
        )
    attention.gain(links, just_left=just_left and lexicon.attention.how is not AttentionBy.CONTROL_LINE)


class Witness:
    """The witness that the module's lexicon names. `planted` has its value in the module's words while another one is there."""

    def __init__(self, module: Module) -> None:
        self.module = module
        self.name = module.lexicon.start.witness
        self.planted: dict[str, str] = {}
        # The value that it had before, and the one that it was given.
        self.value: Value = UNSET
        self._other: Value | None = None

    def values(self, known: Mapping[str, Value]) -> tuple[Value, Value] | None:
        """The value that it has, and another one; None if there is no witness. `known` are values that need not be read."""
        if not self.name or not self.module.has(self.name):
            return None
        value = known[self.name] if self.name in known else self._read()
        kind = self.module.lexicon.settings[self.name].kind

        def fits(other: Value) -> bool:
            """Whether the link can carry what the module would send, also where a start brings back another rate: otherwise it
            could not be told to put this back."""
            lexicon = self.module.lexicon
            load = load_of(lexicon, {**known, self.name: other})
            return load is None or load.bits <= min(
                load.rate, self.module.session.link.tuning.rate, lexicon.factory.rate
            )

        other = kind.another(value, fits) if value is not None and value is not UNSET else None
        return None if value is None or other is None else (value, other)

    def plant(self, known: Mapping[str, Value], remember: Callable[[], None]) -> bool:
        """Gives it another value, without saving it; whether that could be done. `known` are values that were just read;
        `remember` is called before anything is written."""
        found = self.values(known)
        if found is None:
            return False
        self.value, self._other = found
        self.planted = {self.name: self.module.lexicon.settings[self.name].kind.encode(self.value)}
        remember()
        self._write(self._other)
        if self._glance() != self._other:
            return False
        self.module.attention.ledger.note(Planted(self.module.session.clock.now()))
        return True

    def undone(self) -> bool:
        """Whether the module answers, for now, that it has another value than the one that was planted."""
        value = self._glance()
        return value is not None and value != self._other

    def look(self, found: Value | None = None) -> bool:
        """Whether a restart has undone the change; otherwise it is taken back. `found` is its value if it was just read."""
        ledger, now = self.module.attention.ledger, self.module.session.clock.now
        undone = (self._read() if found is None else found) != self._other
        if undone:
            ledger.note(Undone(now()))
        else:
            ledger.note(Stayed(now()))
            self._write(self.value)
        self.planted = {}
        return undone

    def _glance(self) -> Value | None:
        """Its value by one question; an answer that takes longer than any before counts as none."""
        patience = self.module.attention.observer.quick_look() + self.module.session.link.tuning.wire_time(16)
        return self.module.settings.glance(self.name, patience)

    def _read(self) -> Value | None:
        return self.module.settings.read([self.name])[self.name].value

    def _write(self, value: Value) -> None:
        self.module.settings.write({self.name: value}, {})
