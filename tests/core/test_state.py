"""The table of states: every step that it does not list is refused, in the engine as in the table itself."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from tests.core.talking import Talk
from wexicon.core.agenda import Agenda
from wexicon.core.faults import LinkFault
from wexicon.core.protocol.dialect import OK, Dialect, Expectation, Want
from wexicon.core.protocol.exchange import TRANSITIONS, Exchange, LocalProtocolError, State, Step, after
from wexicon.core.protocol.framing import Prompt
from wexicon.core.protocol.observations import Collector
from wexicon.core.protocol.patterns import Pattern
from wexicon.core.protocol.session import Session
from wexicon.core.protocol.speech import Speech
from wexicon.core.tuning import Tuning
from wexicon.links.virtual import VirtualClock, VirtualLink

SPEECH = Speech(closing="always")


def test_every_step_of_every_state_is_in_the_table_or_refused() -> None:
    for state in State:
        for step in Step:
            if step in TRANSITIONS[state]:
                assert after(state, step) is TRANSITIONS[state][step]
            else:
                with pytest.raises(LocalProtocolError, match=f"while the connection is {state.value}"):
                    after(state, step)
    assert all(after(state, Step.CLOSE) is State.CLOSED for state in State)
    assert not [state for state in (State.CLOSED, State.FAILED) if Step.BEGIN in TRANSITIONS[state]]


def _waiting() -> Talk:
    talk = Talk(SPEECH)
    talk.begin("AT")
    return talk


def _complete() -> Talk:
    talk = Talk(SPEECH)
    talk.begin("AT?", Expectation((Want(Pattern("+A {a}")),)))
    talk.feed(b"+A 1\r\n", 0.1)
    return talk


def _ended() -> Talk:
    talk = _waiting()
    talk.feed(b"OK\r\n", 0.1)
    return talk


def _closed() -> Talk:
    talk = _waiting()
    talk.engine.close()
    return talk


def _failed() -> Talk:
    talk = _waiting()
    talk.engine.fail()
    return talk


STATES: dict[State, Callable[[], Talk]] = {
    State.IDLE: lambda: Talk(SPEECH),
    State.WAITING: _waiting,
    State.COMPLETE: _complete,
    State.ENDED: _ended,
    State.CLOSED: _closed,
    State.FAILED: _failed,
}


@pytest.mark.parametrize("state", STATES)
def test_the_engine_is_in_each_state_and_refuses_what_the_table_refuses(state: State) -> None:
    made = STATES[state]
    assert made().engine.state is state
    later = Exchange(Dialect(SPEECH), "AT", OK, 1.0, 2.0)
    if Step.BEGIN in TRANSITIONS[state]:
        made().engine.begin(later, "AT")
    else:
        with pytest.raises(LocalProtocolError):
            made().engine.begin(later, "AT")
    if state in (State.WAITING, State.COMPLETE):
        with pytest.raises(LocalProtocolError, match="dialect cannot change"):
            made().engine.adopt(Dialect(SPEECH))
    if Step.RENEW in TRANSITIONS[state]:
        talk = made()
        talk.engine.renew()
        assert talk.engine.state is State.IDLE


def test_an_exchange_that_has_ended_takes_no_prompt_and_no_piece() -> None:
    talk = _ended()
    for use in (lambda: talk.exchange.hear_prompt(Prompt("> "), 1.0), lambda: talk.exchange.overhear("x")):
        with pytest.raises(LocalProtocolError, match="hears nothing"):
            use()
    closed = _closed()
    with pytest.raises(LocalProtocolError, match="closed"):
        closed.feed(b"OK\r\n", 1.0)


class Silent:
    """A wire with nothing at its other end."""

    host = Tuning()

    def from_host(self, data: bytes) -> None:
        pass

    def from_host_signals(self, *, dtr: bool | None = None, rts: bool | None = None) -> None:
        pass


class Failing(VirtualLink):
    """A link that fails when it is read, from a time on."""

    fails_at = 0.0

    def read(self, until: float) -> bytes:
        if self.clock.now() >= self.fails_at:
            raise LinkFault("the port was lost: cable", where=self.name)
        return super().read(until)


def _session() -> tuple[Session, Failing]:
    link = Failing("port", VirtualClock(Agenda()), Silent())
    link.fails_at = 1e9
    return Session(link, Dialect(SPEECH)), link


def test_after_a_link_fault_the_session_says_so_each_time_and_a_new_link_renews_it() -> None:
    session, link = _session()
    link.fails_at = 0.5
    for _ in range(2):
        with pytest.raises(LinkFault, match="the port was lost: cable"):
            session.exchange("AT", within=3.0)
    with pytest.raises(LinkFault, match="the port was lost: cable"):
        session.send(b"x")
    other, good = _session()
    session.renew(good)
    assert session.exchange("AT", within=0.1).status == "silence" and other.link is good


def test_a_link_that_is_closed_refuses_everything() -> None:
    with _session()[1] as link:
        pass
    link.close()
    for use in (lambda: link.write(b"x"), lambda: VirtualLink.read(link, 1.0), lambda: link.signal(dtr=True)):
        with pytest.raises(LinkFault, match="the link is closed"):
            use()


def test_a_stop_is_heeded_inside_a_long_exchange_and_between_the_bytes_of_a_machine() -> None:
    session, _ = _session()
    session.stopping = lambda: session.clock.now() > 3.0
    with pytest.raises(Exception, match="before the answer came"):
        session.exchange("AT+SCAN", within=120.0)
    assert 4.0 < session.clock.now() < 8.0
    again, _ = _session()
    again.stopping = lambda: again.clock.now() > 3.0
    with pytest.raises(Exception, match="stopped on request"):
        again.drive(Collector(60.0, b"payload"))
    assert again.clock.now() < 4.0
