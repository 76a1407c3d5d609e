"""The states of a connection to one module, as a table.

The rule: whatever the table does not list is refused as a LocalProtocolError: a mistake of the program, not of the module.
"""

from __future__ import annotations

from enum import Enum


class LocalProtocolError(RuntimeError):
    """The engine was used out of turn."""


class State(Enum):
    """`idle`: nothing is open; `waiting` for an answer; `complete`: all that was wanted has come, a success code may follow;
    `ended`: the exchange has its reply; `closed`: the link was closed; `failed`: the link failed."""

    IDLE = "idle"
    WAITING = "waiting"
    COMPLETE = "complete"
    ENDED = "ended"
    CLOSED = "closed"
    FAILED = "failed"
    __hash__ = object.__hash__  # looked up for each exchange: faster than an enumeration's own


class Step(Enum):
    """What moves a connection from one state to the next."""

    BEGIN = "an exchange begins"
    FULFIL = "all that was wanted has come"
    END = "the reply is final"
    ABANDON = "the answer is no longer waited for"
    FAIL = "the link fails"
    CLOSE = "the link is closed"
    RENEW = "another link takes its place"
    __hash__ = object.__hash__


# Looked up once: the members of an enumeration are found slowly, and these are asked for with each line.
IDLE, WAITING, COMPLETE, ENDED, CLOSED, FAILED = State
BEGIN, FULFIL, END, ABANDON, FAIL, CLOSE, RENEW = Step

TRANSITIONS: dict[State, dict[Step, State]] = {
    IDLE: {BEGIN: WAITING, ABANDON: IDLE, FAIL: FAILED, CLOSE: CLOSED, RENEW: IDLE},
    WAITING: {FULFIL: COMPLETE, END: ENDED, ABANDON: IDLE, FAIL: FAILED, CLOSE: CLOSED},
    COMPLETE: {END: ENDED, ABANDON: IDLE, FAIL: FAILED, CLOSE: CLOSED},
    ENDED: {BEGIN: WAITING, ABANDON: IDLE, FAIL: FAILED, CLOSE: CLOSED, RENEW: IDLE},
    CLOSED: {CLOSE: CLOSED, RENEW: IDLE},
    FAILED: {FAIL: FAILED, CLOSE: CLOSED, RENEW: IDLE},
}


def after(state: State, step: Step) -> State:
    """The state after a step. Raises LocalProtocolError where the table has none."""
    try:
        return TRANSITIONS[state][step]
    except KeyError:
        raise LocalProtocolError(f"{step.value}, while the connection is {state.value}") from None
