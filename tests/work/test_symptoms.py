"""Each thing that may be wrong, in each command that talks to a module: the same cause is named everywhere.

The rule: what is wrong with a device is written in the table, and what must be said of it; nothing comes from the code.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from tests.work.devices import Device
from wexicon.core.dialogue import read_dialogue
from wexicon.core.faults import Fault
from wexicon.core.protocol.dialect import Dialect
from wexicon.core.protocol.session import Session
from wexicon.core.protocol.speech import Speech
from wexicon.work.console.conversation import Shown, Talk
from wexicon.work.drafting.lexicon_draft import Drafting
from wexicon.work.function.dialogues import run_dialogue
from wexicon.work.function.endpoints import TransparentEndpoint
from wexicon.work.function.traffic import TrafficOrder, TrafficTest

# What is wrong with the device; what is said to it, and with which line end; what must be named.
CAUSES: dict[str, tuple[dict[str, Any], str, str, str]] = {
    "another rate": (
        {"rate": 19200, "talks": "Brisca W1 2.0.3 starts", "every": 0.3},
        "AT",
        "crlf",
        "garbage was heard at 9600 8N1; probably 19200 baud",
    ),
    "an error to every line": ({"answers": {}, "unknown": "FAULT 2"}, "AT", "crlf", "answers every line with an error"),
    "half a command": (
        {"answers": {"AT": "OK"}, "unknown": "FAULT 2", "half": "AT+PO"},
        "AT",
        "crlf",
        "perhaps it had half a line from before",
    ),
    "only an echo": ({"answers": {}, "echoes": True}, "AT", "crlf", "our own lines come back"),
    "a weak supply": ({"answers": {}, "talks": "READY", "every": 1.5}, "AT", "crlf", "the module restarts by itself"),
    "a weak supply, seldom": ({"answers": {}, "talks": "READY", "every": 8.0}, "AT", "crlf", "restarts by itself"),
    "a prompt": ({"answers": {}, "prompt": "> "}, "AT", "crlf", "the module waits for"),
    "too slow": ({"late": 5.5}, "AT", "crlf", "the module answers late: “OK” came"),
    "no power": ({"answers": {}}, "AT", "crlf", "nothing was heard at 9600 8N1"),
}
NOT_IN = {
    # A test of packets ends in seconds, has no line that is answered late, and calls silence and an echo by other names.
    "traffic": {"half a command", "a weak supply, seldom", "too slow", "no power", "only an echo"},
    # A draft tries all rates and line ends by itself.
    "lexicon draft": {
        "half a command",
        "another rate",
        "a weak supply",
        "a weak supply, seldom",
        "too slow",
        "an error to every line",
    },
}


def session_on(device: Device, end: str) -> Session:
    made = device.session()
    made.adopt(Dialect(Speech(end=end)))
    return made


def run(session: Session, line: str) -> str:
    result = run_dialogue(session, read_dialogue(f"allow 20s\n    > {line}\n    < DONE\n", "d.wex"), {})
    assert result.failure and result.status == 1
    return result.failure.next


def run_quickly(session: Session, line: str) -> str:
    result = run_dialogue(session, read_dialogue(f"allow 5s\n> {line}\n", "d.wex"), {})
    assert result.failure and result.status == 1
    return result.failure.next


def talked(session: Session, *lines: str) -> tuple[Talk, list[Shown]]:
    shown: list[Shown] = []
    made = Talk(None, shown.append, trace=Path("t"))
    session.listener._listener = made  # the conversation listens to its own session
    for line in lines:
        made.put(line)
    made.end()
    made.run(session)
    return made, shown


def talk(session: Session, line: str) -> str:
    made, shown = talked(session, *[line] * 4)
    session.listen(session.clock.now() + 10)
    if not any(one.mark == "=" for one in shown):
        made, more = talked(session, line)
        shown += more
    assert made.failures
    return "\n".join(f"{one.text} {one.meaning}" for one in shown if one.mark in "=<")


def traffic(session: Session, line: str) -> str:
    test = TrafficTest([TransparentEndpoint(session)], TrafficOrder(count=3, within=2.0))
    result = test.run(lambda: False)
    assert result.failure
    return f"{result.failure.what} {result.failure.next}"


def draft(session: Session, line: str) -> str:
    with pytest.raises(Fault) as fault:
        Drafting(session).learn((9600,))
    return fault.value.hint


WAYS: dict[str, Callable[[Session, str], str]] = {"run": run, "talk": talk, "traffic": traffic, "lexicon draft": draft}


@pytest.mark.parametrize(
    ("command", "cause"), [(one, cause) for one in WAYS for cause in CAUSES if cause not in NOT_IN.get(one, ())]
)
def test_every_command_names_the_cause(command: str, cause: str) -> None:
    wrong, line, end, told = CAUSES[cause]
    wrong = dict(wrong)
    half = wrong.pop("half", "")
    device = Device(**{"answers": {"AT": "OK"}, **wrong})
    device._line = half
    session = session_on(device, end)
    if cause == "no power":
        device.power(False)
    way = run_quickly if command == "run" and cause == "too slow" else WAYS[command]
    said = way(session, line)
    if command == "run" and cause == "an error to every line":
        told = "if it refuses every line"
    if command == "traffic" and cause == "an error to every line":
        told = "it is in command mode, not in data mode"
    if command == "talk" and cause == "too slow":
        told = "late, or not asked for"
    assert told.lower() in said.lower()
