"""What people do with Bluetooth modules every day: each action on the stand-in, and each wrong use with what it says."""

from __future__ import annotations

from typing import Any

import pytest

from tests.conftest import Bench
from wexicon.core.dialogue import read_dialogue
from wexicon.core.dialogue.blocks import DialogueFault, DialogueOutput
from wexicon.core.dialogue.parties import Party
from wexicon.core.dialogue.runner import Runner
from wexicon.rigs.standin import StandIn
from wexicon.rigs.standins import family
from wexicon.work.module.module import Module

LEADS = {"m": "L", "k": "N", "a": "8E21005CA102"}


def beside(one: Bench, name: str, **settings: Any) -> StandIn:
    """Another module in the same air, with power."""
    other = family(name)(one.agenda, f"other-{name}", settings, None, None, one.standin.air)
    other.power(True)
    return other


def hold(bench: Bench, text: str) -> DialogueOutput:
    """A dialogue in command mode, which is entered as an operator would."""
    session = bench.open()
    module = Module(session, bench.lexicon, bench.operator)
    module.attention.gain()
    return Runner(Party("", session, module), read_dialogue(text, "t")).run()


@pytest.mark.parametrize("name", ["tamsel-k5", "orvane-b3"])
def test_others_are_found_with_their_names_and_signal(name: str) -> None:
    one = Bench(name)
    beside(one, "tamsel-k6", L="Withy handset")
    beside(one, "orvane-b3", n="Ferry clock")
    made = hold(one, "do search\n").kept["devices"]
    assert isinstance(made, list) and {row["name"] for row in made} == {"Withy handset", "Ferry clock-A2B7"}
    assert {row["signal"] for row in made} == {-71}
    assert {row["address"] for row in made} == {"02:A1:5C:00:21:8E", "02:C4:4E:10:A2:B7"}


def test_a_connection_is_made_by_command_told_of_and_ended_at_either_side() -> None:
    one = Bench("orvane-b3", p="5050", **LEADS)
    other = beside(one, "tamsel-k6")
    hold(one, "do connect\n")
    assert one.standin.joined is other  # type: ignore[attr-defined]
    hold(one, "do disconnect\nawait 2s nothing\n")
    assert one.standin.joined is None  # type: ignore[attr-defined]
    # By an address, as the search gives it; and the peer hangs up.
    hold(one, 'do search\nlet address = "02:A1:5C:00:21:8E"\ndo connect\n')
    session = one.open()
    session.tune(one.standin.uart.tuning)
    other.power(False)
    assert session.wait_for(lambda event: event.name == "down", session.clock.now() + 5)


@pytest.mark.parametrize(
    ("settings", "told"),
    [
        ({}, "only a leader connects"),
        ({**LEADS, "p": "9999"}, "did not let us in"),
        ({**LEADS, "p": "5050", "a": "000000000001"}, "it was not found"),
    ],
)
def test_a_connection_that_cannot_be_made_says_why(settings: dict[str, str], told: str) -> None:
    one = Bench("orvane-b3", **settings)
    beside(one, "tamsel-k6")
    with pytest.raises(DialogueFault, match=told):
        hold(one, "do connect\n")
    with pytest.raises(DialogueFault, match="not connected"):
        hold(one, "do disconnect\n")


@pytest.mark.parametrize("name", ["tamsel-k5", "orvane-b3"])
def test_every_command_is_listed(name: str) -> None:
    made = hold(Bench(name), "do help\n").kept["command"]
    assert isinstance(made, list) and len(made) >= 13


@pytest.mark.parametrize(
    ("leader", "follower", "joins"),
    [
        ({"mate": "02A15C00218E", "pass": "5050"}, {}, True),
        ({"mate": "02A15C00218E", "pass": "1111"}, {}, False),
        ({"mate": "02A15C00218E", "pass": "1111", "ask": "0"}, {}, False),
        ({"mate": "02A15C00218E", "pass": "1111", "ask": "0"}, {"S": "0"}, True),
        ({"mate": "02A15C00218F", "pass": "5050"}, {}, False),
        ({"mate": "02A15C00218F", "pass": "5050", "join": "A"}, {}, True),
        ({"mate": "02A15C00218E", "pass": "5050", "join": "N"}, {}, False),
    ],
)
def test_a_pair_joins_by_itself_at_power_up_as_it_was_set(
    leader: dict[str, str], follower: dict[str, str], joins: bool
) -> None:
    one = Bench("tamsel-k5", part="L", **leader)
    other = beside(one, "tamsel-k6", **follower)
    one.standin.cycle()
    one.agenda.run_until(one.agenda.now + 10)
    assert (one.standin.joined is other) == joins  # type: ignore[attr-defined]


def test_the_end_of_a_connection_is_told_and_it_is_made_again() -> None:
    one = Bench("tamsel-k5", part="L", mate="02A15C00218E", **{"pass": "5050"})
    other = beside(one, "tamsel-k6")
    one.standin.cycle()
    session = one.open()
    session.tune(one.standin.uart.tuning)
    for name, power in (("UP", None), ("DOWN", False), ("UP", True)):
        if power is not None:
            other.power(power)
        assert session.wait_for(lambda event, name=name: event.text == f"+MATE {name}", session.clock.now() + 10)  # type: ignore[misc]
