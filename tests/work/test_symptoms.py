"""Each thing that may be wrong, in each command that talks to a module: the same cause is named everywhere.

The rule: what is wrong with a device is written in the table, and what must be said of it; nothing comes from the code.
"""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from msgspec.structs import replace

from tests.conftest import Bench
from tests.work.devices import Device
from wexicon.core.dialogue import read_dialogue
from wexicon.core.dialogue.parties import Party
from wexicon.core.dialogue.runner import Runner
from wexicon.core.faults import Fault
from wexicon.core.protocol.dialect import Dialect
from wexicon.core.protocol.session import Session
from wexicon.core.protocol.speech import Speech
from wexicon.core.results.functions import TalkLine
from wexicon.core.tuning import Tuning
from wexicon.work.console.conversation import Talk
from wexicon.work.contact.symptoms import with_cause
from wexicon.work.drafting.lexicon_draft import Drafting
from wexicon.work.function.dialogues import run_dialogue
from wexicon.work.function.endpoints import TransparentEndpoint
from wexicon.work.function.traffic import TrafficOrder, TrafficTest
from wexicon.work.module.module import Module

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


def talked(session: Session, *lines: str) -> tuple[Talk, list[TalkLine]]:
    shown: list[TalkLine] = []
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


# A known module that goes wrong while an action or a setting is under way: what is done to it, and what must be named.
MISHAPS: dict[str, tuple[str, Callable[[Bench], None], str]] = {
    "a weak supply": ("brisca-w1", lambda one: _restarting(one), "the module restarts by itself"),
    "a payload begun": ("brisca-w1", lambda one: _deaf(one, b"> "), "the module waits for"),
    "a sleeper": ("cordal-n7", lambda one: _deaf(one, b"+XSLEEP: 1\r\n"), "the module is probably asleep"),
    "another rate": ("brisca-w1", lambda one: _moves(one), "garbage was heard at 115200 8N1"),
    "a peer": ("lindle-l9", lambda one: _deaf(one, b"@air snr 8 rssi -71 from 1: tide\r\n"), "a peer is connected"),
    "a key let go": ("tamsel-k5", lambda one: _half(one), "service key"),
    "no power": ("brisca-w1", lambda one: one.standin.power(False), "nothing was heard since"),
}


def _deaf(one: Bench, says: bytes) -> None:
    """The module says this, and hears nothing more."""
    one.standin.heard = lambda data, began: None  # type: ignore[method-assign]
    one.standin.uart.send(says)


def _restarting(one: Bench) -> None:
    one.standin.heard = lambda data, began: None  # type: ignore[method-assign]
    for after in (0.1, 0.6, 1.1):
        one.standin.after(after, lambda: one.standin.uart.send(b"READY\r\n"))


def _moves(one: Bench) -> None:
    """It speaks at another rate from now on, and starts there."""
    one.standin.uart.tuning = Tuning(57600)
    one.standin.after(0.2, lambda: one.standin.uart.send(b"Brisca W1 2.0.3 starts\r\n"))


def _half(one: Bench) -> None:
    one.standin.mode = "half"  # type: ignore[attr-defined]


def by_action(module: Module) -> str:
    module.session.begin_step("dialogue")
    with pytest.raises(Fault) as fault:
        Runner(
            Party("", module.session, module), read_dialogue("> " + PROBES[module.lexicon.about.family] + "\n", "d.wex")
        ).run()
    with_cause(fault.value, module.session, module.lexicon)
    return fault.value.hint


def by_reading(module: Module) -> str:
    with pytest.raises(Fault) as fault:
        module.read(next(name for name, one in module.lexicon.settings.items() if one.read))
    return f"{fault.value.what} {fault.value.hint}"


def by_writing(module: Module) -> str:
    name = next(name for name in ("name", "label", "network", "apn") if name in module.lexicon.settings)
    with pytest.raises(Fault) as fault:
        module.set(name, 6 if name == "network" else "quay")
    return f"{fault.value.what} {fault.value.hint}"


PROBES = {"brisca-w1": "AT+WHO?", "cordal-n7": "AT", "lindle-l9": "@who?", "tamsel-k5": "AT+LABEL?"}


@pytest.mark.parametrize("way", [by_action, by_reading, by_writing])
@pytest.mark.parametrize("mishap", MISHAPS)
def test_what_happens_to_a_known_module_is_named_by_actions_reading_and_writing(
    mishap: str, way: Callable[[Module], str]
) -> None:
    name, happens, told = MISHAPS[mishap]
    one = Bench(name)
    if name == "lindle-l9":
        one.lexicon = replace(one.lexicon, attention=replace(one.lexicon.attention, ends_on="air"))
    one.agenda.run_until(25)
    module = one.module()
    module.attention.gain()
    module.identify()
    happens(one)
    module.session.quiet(0.4)
    assert told.lower() in way(module).lower()
