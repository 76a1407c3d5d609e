"""A LoRaWAN device and its network: activation both ways, uplinks, downlinks, what is refused, and what is told later."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import Bench, wexicon
from wexicon.core.dialogue import read_dialogue
from wexicon.core.dialogue.blocks import DialogueFault, DialogueOutput
from wexicon.core.dialogue.parties import Party
from wexicon.core.dialogue.runner import Runner
from wexicon.rigs.air import Air, AirTable, Device, LorawanTable
from wexicon.work.module.module import Module

EUI, KEY, NETWORK, DATA = "02A15CFFFE0017C4", "00112233445566778899AABBCCDDEEFF", "A" * 32, "B" * 32
KNOWN = Device(EUI, "0" * 16, KEY, "26015A01", NETWORK, DATA, ("1:6F6B", "2:00"))
JOIN = f'set app-key = "{KEY}"\ndo join\n'


def device(**flash: Any) -> Bench:
    one = Bench("osier-w2", **flash)
    one.standin.air = Air(AirTable(lorawan=LorawanTable({"tide": KNOWN})))
    one.agenda.run_until(1.0)
    return one


def hold(bench: Bench, text: str) -> DialogueOutput:
    session = bench.open()
    session.tune(bench.standin.uart.tuning)
    module = Module(session, bench.lexicon, bench.operator)
    return Runner(Party("", session, module), read_dialogue(text, "t")).run()


def test_it_joins_sends_and_hears_what_the_network_answers() -> None:
    one = device()
    text = (
        JOIN
        + 'let data = "74696465"\ndo send\nawait 5s\n    DOWN 1,{answer:word},{rssi:int},{snr:int}\nkeep answer\ndo state\n'
    )
    made = hold(one, text).kept
    assert (made["address"], made["answer"], made["state"], made["up"]) == ("26011F01", "6F6B", "JOINED", 1)
    (frame,) = one.standin.air.lorawan.frames
    assert (frame.dev_eui, frame.number, frame.port, frame.data) == (EUI, 1, 1, b"tide")


def test_it_is_activated_by_address_and_its_frames_are_acknowledged() -> None:
    one = device()
    keys = f'set activation = "address"\nset device-address = "26015A01"\nset network-key = "{NETWORK}"\n'
    hold(one, f'{keys}set data-key = "{DATA}"\ndo join\nlet data = "00"\ndo send-confirmed\n')
    assert one.standin.air.lorawan.frames[-1].number == 1
    # A frame counter that does not grow, as after a start that forgets it, is refused by the network.
    hold(one, "do restart\npause 1s\n")
    with pytest.raises(DialogueFault, match="did not acknowledge"):
        hold(one, f'{keys}set data-key = "{DATA}"\ndo join\npause 3m\nlet data = "00"\ndo send-confirmed\n')


def test_while_it_joins_it_is_busy_and_the_line_is_said_again() -> None:
    one = device()
    made = hold(
        one, f'set app-key = "{KEY}"\n> JOIN\n> DR?\n< DR {{rate:int}}\n> STATE?\n< STATE {{state:word}}\nkeep state\n'
    )
    assert made.kept["state"] == "JOINED"


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("do join\n", "keys are missing for this activation"),
        ('let data = "00"\ndo send\n', "not activated: do join first"),
        (f'set app-key = "{"0" * 32}"\ndo join\n', "the network refused it"),
        (f'set join-eui = "{"1" * 16}"\n{JOIN}', "the network refused it"),
        (f'{JOIN}let data = "00"\nlet port = 224\ndo send\n', "value not allowed"),
        (f'{JOIN}let data = "{"00" * 52}"\ndo send\n', "too long for this data rate"),
        (f'{JOIN}let data = "00"\ndo send\ndo send\n', "the duty cycle allows nothing yet"),
        ('set activation = "address"\ndo join\n', "keys are missing"),
    ],
)
def test_each_wrong_use_is_refused_and_explained(text: str, told: str) -> None:
    with pytest.raises(DialogueFault, match=told):
        hold(device(), text)


def test_in_a_region_without_a_duty_cycle_it_may_send_again() -> None:
    one = device()
    hold(one, f'set region = "US915"\n{JOIN}let data = "00"\ndo send\ndo send\n')
    assert [frame.number for frame in one.standin.air.lorawan.frames] == [1, 2]


def test_keys_come_from_a_table_or_are_drawn_and_appear_nowhere(tmp_path: Path) -> None:
    Path("tides.csv").write_text("station\nM1\nM2\n")
    for name in ("M1", "M2"):
        Path(f"{name}.key").write_text(KEY)
    Path("s.toml").write_text(
        'format = 1\nunits = "tides.csv"\n[seat.tide]\nlexicon = "osier-w2"\neach = "row"\ntrust = ["app-key"]\n'
        'settings = { data-rate = 3, app-key = { file = "{row.station}.key" } }\n'
    )
    told = wexicon("rehearse", "s.toml", "--json").stdout
    assert all(one["verdict"] == "conforms" for one in json.loads(told)["units"]) and KEY not in told
