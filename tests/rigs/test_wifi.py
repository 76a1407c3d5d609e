"""What people do with a Wi-Fi module every day: each action on the stand-in, and each wrong use with what it says."""

from __future__ import annotations

from typing import Any

import pytest

from tests.conftest import Bench
from wexicon.core.dialogue import read_dialogue
from wexicon.core.dialogue.blocks import DialogueFault, DialogueOutput
from wexicon.core.dialogue.parties import Party
from wexicon.core.dialogue.runner import Runner
from wexicon.rigs.air import AccessPoint, Air, AirTable
from wexicon.rigs.standins import family
from wexicon.work.module.module import Module

OFFICE = AccessPoint("Harbour Office", "mud flats 7", -48, 6)
JOIN = 'set mode = "station"\ndo join\n'
KEY = {"ssid": "Harbour Office", "passphrase": "mud flats 7"}


def screen(**flash: Any) -> Bench:
    """A module on a bench with one access point and an echo service; nothing of this machine takes part."""
    one = Bench("brisca-w1", **flash)
    one.standin.air = Air(AirTable(services={"echo.example": "echo"}))
    one.standin.air.access_points.append(OFFICE)
    one.standin.air.simulated = True
    one.agenda.run_until(2.0)
    return one


def hold(bench: Bench, text: str, **values: Any) -> DialogueOutput:
    session = bench.open()
    session.tune(bench.standin.uart.tuning)
    module = Module(session, bench.lexicon, bench.operator)
    needs = "".join(f"needs {name} {'secret' if name == 'passphrase' else ''}\n" for name in values)
    return Runner(Party("", session, module), read_dialogue(needs + text, "t"), values).run()


def test_a_network_is_joined_told_of_and_joined_again_after_power() -> None:
    one = screen()
    joined = hold(one, f"{JOIN}do save\ndo network\n", **KEY).kept
    assert (joined["address"], joined["signal"], joined["state"]) == ("127.0.0.1", -48, 2)
    one.standin.cycle()
    one.agenda.run_until(one.agenda.now + 8)
    assert hold(one, "do network\n").kept["state"] == 2
    hold(one, "do disconnect\n")
    one.standin.cycle()
    one.agenda.run_until(one.agenda.now + 8)
    assert hold(one, "do network\n").kept["state"] == 0


def test_a_fixed_address_is_its_address() -> None:
    one = screen()
    kept = hold(one, f'set addressing = "fixed"\nset address = "192.0.2.20"\n{JOIN}', **KEY).kept
    assert kept["address"] == "192.0.2.20"
    with pytest.raises(DialogueFault, match="value not allowed"):
        hold(one, 'set address = "192.0.2.300"\n')


def test_data_goes_out_on_a_channel_and_comes_back() -> None:
    one = screen()
    text = (
        JOIN
        + 'do connect\nlet data = "tide 1.204 m"\ndo send\nawait 5s\n    +IN {c:int} {n:int} {d:bytes(n)}\nkeep d\ndo close\n'
    )
    assert hold(one, text, **KEY, host="echo.example", port=7).kept["d"] == "tide 1.204 m"
    assert not one.standin.links  # type: ignore[attr-defined]


def test_clients_are_let_in_up_to_a_limit_and_no_more_once_it_stops() -> None:
    one, client = screen(), SimpleClient()
    standin: Any = one.standin
    hold(one, f"{JOIN}do serve\n", **KEY, port=8080, clients=2)
    served = standin.air.served[8080]
    assert served.client(client) and served.client(client) and served.client(client) is None
    hold(one, "do stop-serving\n")
    assert standin.air.served == {} and len(standin.links) == 2


class SimpleClient:
    def take(self, data: bytes) -> None: ...

    def hang_up(self) -> None: ...


def test_an_own_network_is_opened_for_others_and_shut() -> None:
    one = screen()
    other = family("brisca-w1")(one.agenda, "guest", {"mode": "station"}, None, None, one.standin.air)
    other.power(True)
    one.agenda.run_until(one.agenda.now + 2)
    hold(one, 'set mode = "beacon"\ndo open-network\n', ssid="Screen set-up", passphrase="quay side 4")
    assert other.air.access_point("Screen set-up").protection == "locked"  # type: ignore[attr-defined]
    hold(one, "do shut-network\n")
    assert other.air.access_point("Screen set-up") is None


@pytest.mark.parametrize(
    ("text", "values", "told"),
    [
        ("do join\n", KEY, "only in mode station"),
        (JOIN, {**KEY, "ssid": "Nowhere"}, "no access point called Nowhere answers here"),
        (JOIN, {**KEY, "passphrase": "wrong one 9"}, "the access point refused the passphrase"),
        ("do connect\n", {"host": "echo.example", "port": 7}, "not joined to a network"),
        (f"{JOIN}do connect\n", {**KEY, "host": "nobody.example", "port": 7}, "nobody.example cannot be reached: NOBODY"),
        (f"{JOIN}let data = 'x'\ndo send\n", KEY, "this channel is not open"),
        (f"{JOIN}do close\n", KEY, "this channel is not open"),
        ("do serve\n", {"port": 8080}, "not joined to a network"),
        (f"{JOIN}do serve\ndo serve\n", {**KEY, "port": 8080}, "this port is not free"),
        (f'set connections = "one"\n{JOIN}do serve\n', {**KEY, "port": 8080}, "only one connection is allowed"),
        (f'set connections = "one"\n{JOIN}let channel = 1\ndo connect\n', {**KEY, "host": "echo.example", "port": 7},
         "only one connection is allowed"),
        ("do open-network\n", {"ssid": "x", "passphrase": "quay side 4"}, "only in mode beacon"),
        ('set mode = "beacon"\ndo open-network\n', {"ssid": "x", "passphrase": "short"}, "value not allowed"),
        (f"{JOIN}do connect\n> AT+POST 0 9\n< \"> \"\nallow 9s\n>> short\n< POSTED\n",
         {**KEY, "host": "echo.example", "port": 7}, "the payload stopped before it was complete"),
        (f"{JOIN}do connect\n> AT+POST 0 1501\n< \"> \"\n", {**KEY, "host": "echo.example", "port": 7}, "value not allowed"),
    ],
)  # fmt: skip
def test_each_wrong_use_is_refused_and_explained(text: str, values: dict[str, Any], told: str) -> None:
    with pytest.raises(DialogueFault, match=told):
        hold(screen(), text, **values)
