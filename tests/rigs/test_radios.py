"""What people do with mesh and LoRa modules every day: each action on the stand-in, and what it says where it cannot."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

from tests.conftest import Bench, virtual, wexicon
from wexicon.core.dialogue import read_dialogue
from wexicon.core.dialogue.blocks import DialogueFault, DialogueOutput
from wexicon.core.dialogue.parties import Party
from wexicon.core.dialogue.runner import Runner
from wexicon.core.faults import Fault, FileFault
from wexicon.core.formats.fixture import Fixture, Input, read_fixture
from wexicon.rigs.standin import StandIn
from wexicon.rigs.standins import family
from wexicon.work.module.module import Module


def beside(one: Bench, kind: str, number: int = 1, **settings: Any) -> StandIn:
    """Another module in the same air, with power, and an identity of its own."""
    other = family(kind)(one.agenda, f"{kind}-{number}", settings, None, None, one.standin.air)
    other.another(number, flash=False)
    other.power(True)
    return other


def hold(bench: Bench, text: str) -> DialogueOutput:
    session = bench.open()
    module = Module(session, bench.lexicon, bench.operator)
    module.attention.gain([bench.standin.uart.tuning])
    return Runner(Party("", session, module), read_dialogue(text, "t")).run()


# -- mesh -----------------------------------------------------------------------------------------------------------------


def test_who_is_in_the_network_is_found_with_address_signal_and_name() -> None:
    one = Bench("fennick-z4", RO=3, OA=1)
    beside(one, "fennick-z4", 1, OA=2, name="Withy")
    beside(one, "fennick-z4", 2, OA=3, name="Ferry")
    beside(one, "fennick-z4", 3, OA=4, NT=9)
    nodes = hold(one, "do discover\n").kept["nodes"]
    assert isinstance(nodes, list)
    found = {(row["address"], row["role"], row["name"], row["signal"], row["serial"]) for row in nodes}
    assert found == {(2, "joiner", "Withy", -71, "5E0417C3"), (3, "joiner", "Ferry", -71, "5E0417C4")}


@pytest.mark.parametrize(
    ("flash", "beside_it", "words"),
    [
        ({"RO": 3}, {}, "in the network"),
        ({"RO": 3}, None, "a coordinator with no node in its network"),
        ({}, {"RO": 3}, "in the network"),
        ({}, {"RO": 3, "NT": 1}, "its coordinator was not found"),
        ({"JV": 0}, {"RO": 3, "NT": 1}, "seeks its coordinator"),
    ],
)
def test_how_it_stands_in_its_network_is_told_in_words(flash: Any, beside_it: Any, words: str) -> None:
    one = Bench("fennick-z4", **flash)
    if beside_it is not None:
        beside(one, "fennick-z4", **beside_it)
    assert hold(one, "do association\n").kept["association"] == words


# -- LoRa by commands -------------------------------------------------------------------------------------------------------


def test_a_text_goes_to_one_or_to_all() -> None:
    one = Bench("lindle-l9", addr=1)
    heard = {}
    for number in (2, 3):
        heard[number] = bytearray()
        beside(one, "lindle-l9", number, addr=number).uart.to_host = heard[number].extend
    hold(one, 'let to = 2\nlet data = "for two"\ndo send\nlet data = "for all"\ndo broadcast\npause 1s\n')
    assert b"for two" in heard[2] and b"for all" in heard[2] and b"for two" not in heard[3] and b"for all" in heard[3]


def test_it_listens_before_it_sends_where_that_is_set() -> None:
    one = Bench("lindle-l9")
    other = beside(one, "lindle-l9", addr=9)
    busy = "pause 20ms\nlet data = 'x'\ndo broadcast\n"
    for first, refused in (("false", False), ("true", True)):
        one.agenda.run_until(one.agenda.now + 2)
        hold(one, f"set listen-first = {first}\n")
        # Its packet is on the air from now on.
        other.uart.from_host(b"@send 65535,a text that takes a while to send, for everybody\n")
        one.agenda.run_until(one.agenda.now + 0.12)
        if refused:
            with pytest.raises(DialogueFault, match="the channel is busy"):
                hold(one, busy)
        else:
            hold(one, busy)


def test_it_sleeps_deaf_to_all_and_tells_when_it_is_awake() -> None:
    one = Bench("lindle-l9", addr=1)
    other = beside(one, "lindle-l9", addr=2)
    one.agenda.after(10, lambda: other.uart.from_host(b"@send 1,in its sleep\n"))
    began = one.agenda.now
    hold(one, "let seconds = 60\ndo sleep\nawait 1s nothing\n")
    assert 60 <= one.agenda.now - began < 64


# -- LoRa by a block of bytes -----------------------------------------------------------------------------------------------


def test_all_of_the_block_is_named_settings() -> None:
    one = Bench("lindle-r2")
    made = one.provision(correction="off", drive="open-drain", **{"wake-up": "1s"}, addressing="fixed", address=0x0102)
    assert made.verdict == "conforms", made.failure
    block = bytes.fromhex(one.standin.flash["block"])
    assert (block[0] & 0x0E, block[4] & 0xC3, block[6:8]) == (0x06, 0x81, b"\x01\x02")


def test_with_addresses_only_the_one_that_is_meant_hears_it() -> None:
    one = Bench("lindle-r2")
    heard = {}
    others = {}
    for number in (2, 3):
        heard[number] = bytearray()
        others[number] = beside(one, "lindle-r2", number)
        others[number].uart.to_host = heard[number].extend
    blocks = {number: bytearray.fromhex(others[number].flash["block"]) for number in others}
    for number, block in blocks.items():
        block[7] = number
        block[9] = 0
        for byte in block[:9]:
            block[9] ^= byte
        others[number].flash["block"] = bytes(block).hex()
    assert one.provision(addressing="fixed").verdict == "conforms"
    for pin in ("mode0", "mode1"):
        one.standin.set_pin(pin, False)
    for one_heard in heard.values():
        one_heard.clear()
    for to, data in ((b"\x00\x02", b"for two"), (b"\xff\xff", b"for all")):
        one.standin.uart.host = one.standin.uart.tuning
        one.standin.uart.from_host(to + data)
        one.agenda.run_until(one.agenda.now + 2)
    assert (bytes(heard[2]), bytes(heard[3])) == (b"for twofor all", b"for all")


# -- a busy line, as a fixture reads it ---------------------------------------------------------------------------------------

BUSY = (
    "party cable = lindle-r2\nparty other = lindle-r2\nat cable data\n    >> a reading that takes a while on the air\n"
)
CABLES = (
    "".join(
        f'[unit.{name}]\nstandin = "lindle-r2"\nserve = "rfc2217"\n'
        f'wiring = {{ dtr = "mode0", rts = "mode1", cts = "{busy}" }}\n'
        for name, busy in (("cable", "!busy"), ("other", "busy"))
    )
    + "[air]\n[air.place.cable]\n[air.place.other]\neast = 0.1\n"
)
WAITS = (
    '    repeat for 2s every 2ms until pin("busy")\n        let looked = 1\n    mark began\n'
    '    repeat for 5s every 5ms until not pin("busy")\n        let looked = 2\n'
    "    measure busy_for = since(began) s from 0.1 to 0.6\n"
)


def test_a_busy_line_is_read_through_a_fixture() -> None:
    Path("d.wex").write_text(BUSY + WAITS)
    Path("f.toml").write_text(
        "format = 1\n"
        + "".join(f'[pin.mode{n}]\nline = "{line}"\n' for n, line in ((0, "dtr"), (1, "rts")))
        + '[input.busy]\nline = "cts"\ninverted = true\n'
    )
    with virtual(CABLES) as rig:
        ports = [f"{name}={rig.ports[name]}" for name in ("cable", "other")]
        assert "passed" in wexicon("run", "d.wex", *ports, "--fixture", "f.toml", "--operator", "rig").stdout
        told = wexicon("run", "d.wex", *ports, "--operator", "rig", status=1).stderr
        assert "the fixture has no input busy" in told and "[input.busy]" in told


def test_a_command_may_read_a_pin_and_what_it_prints_is_checked() -> None:
    one = Bench("lindle-l9")
    session = one.open()
    lamp = {"lamp": Input(command="look")}
    for printed, found in (("1", True), ("0\n", False)):
        fixture = Fixture(inputs=lamp, run=lambda command, printed=printed: printed)  # type: ignore[misc]
        assert fixture.reads(session, "lamp") is found
    with pytest.raises(Fault, match="printed “on”, and not 1 or 0"):
        Fixture(inputs=lamp, run=lambda command: "on").reads(session, "lamp")
    assert Fixture().reads(session, "cts") is True and Fixture().reads(session, "ri") is False
    for text, told in (
        ('[input.x]\nline = "dtr"\n', "is not one of cts, dsr, dcd, ri"),
        ("[input.x]\n", "has a line or a command"),
    ):
        with pytest.raises(FileFault, match=told):
            read_fixture(b"format = 1\n" + text.encode(), "f")
