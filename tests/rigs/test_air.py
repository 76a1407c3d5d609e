"""Two modules pass data to each other when, and only when, their settings allow it; and what networks do."""

from __future__ import annotations

import socket
import threading
from decimal import Decimal
from typing import Any

import pytest

from tests.conftest import Bench
from wexicon.core.agenda import Agenda
from wexicon.core.dialogue import read_dialogue
from wexicon.core.dialogue.blocks import DialogueOutput
from wexicon.core.dialogue.parties import Party
from wexicon.core.dialogue.runner import Runner
from wexicon.core.protocol.observations import Heard
from wexicon.rigs.air import AccessPoint, Air, AirTable, Network, Place, Sky
from wexicon.rigs.standin import StandIn
from wexicon.rigs.standins import family
from wexicon.rigs.uart import WireFaults
from wexicon.work.module.module import Module


class Pair:
    """Stand-ins in one air, and what each of their hosts has heard."""

    def __init__(self, *made: tuple[str, dict[str, Any]], identities: tuple[dict[str, Any], ...] = ({}, {})) -> None:
        self.agenda = Agenda()
        self.air = Air()
        self.heard: list[bytearray] = []
        self.standins: list[StandIn] = []
        for (name, settings), own in zip(made, identities, strict=False):
            one = family(name)(self.agenda, name, settings, own, None, self.air)
            heard = bytearray()
            one.uart.to_host = heard.extend
            self.heard.append(heard)
            self.standins.append(one)

    def start(self, *order: int) -> None:
        for index in order or range(len(self.standins)):
            self.standins[index].power(True)
            self.run(2)
        for one in self.standins:
            one.uart.host = one.uart.tuning
        for heard in self.heard:
            heard.clear()

    def run(self, seconds: float) -> None:
        self.agenda.run_until(self.agenda.now + seconds)

    def passes(self, data: bytes = b"tide 1.204\n") -> tuple[bool, bool]:
        """Whether data goes from the first to the second, and back."""
        found = []
        for sender, receiver in ((0, 1), (1, 0)):
            self.heard[receiver].clear()
            self.standins[sender].uart.from_host(data)
            self.run(3)
            found.append(data in bytes(self.heard[receiver]))
        return found[0], found[1]


LEADER = {"part": "L", "mate": "02A15C00218E", "pass": "5050"}


@pytest.mark.parametrize(
    ("leader", "follower", "joins"),
    [
        (LEADER, {}, True),
        ({**LEADER, "pass": "9999"}, {}, False),
        ({**LEADER, "mate": "02A15C00218F"}, {}, False),
        ({**LEADER, "part": "F"}, {}, False),
    ],
)
def test_bluetooth_joins_by_address_role_and_pin(leader: dict[str, Any], follower: dict[str, Any], joins: bool) -> None:
    pair = Pair(("tamsel-k5", leader), ("tamsel-k6", follower))
    pair.start(1, 0)
    assert pair.passes() == (joins, joins)
    assert ("TAMSEL-K6" in pair.air.names()) == (not joins)


def test_a_scanning_handset_sees_names_and_a_leader_that_goes_lets_go() -> None:
    pair = Pair(("orvane-b3", {"m": "L", "a": "8E21005CA102", "p": "5050"}), ("tamsel-k6", {"L": "Quay 3"}))
    pair.start(1)
    assert pair.air.names() == ["Quay 3"]
    pair.start(0)
    assert pair.passes() == (True, True)
    late = Pair(("tamsel-k5", LEADER), ("tamsel-k6", {}))
    late.start(0, 1)
    late.run(5)
    assert late.passes() == (True, True)
    other = Pair(("tamsel-k5", LEADER), ("tamsel-k6", {}))
    other.start(1, 0)
    other.standins[0].key("service", True)
    other.standins[0].cycle()
    other.run(1)
    assert "TAMSEL-K6" in other.air.names()


@pytest.mark.parametrize(
    ("changes", "hears"),
    [({}, True), ({"radio": (868300000, 9, 4, 14)}, False), ({"radio": (868100000, 10, 4, 14)}, False),
     ({"radio": (868100000, 9, 2, 14)}, False),
     ({"radio": (868100000, 9, 4, 2)}, True), ({"net": 2}, False), ({"sync": "34"}, False), ({"addr": 3}, False)],
)  # fmt: skip
def test_lora_by_frequency_spreading_bandwidth_sync_and_network(changes: dict[str, Any], hears: bool) -> None:
    pair = Pair(("lindle-l9", {"addr": 1}), ("lindle-l9", {"addr": 2, **changes}))
    pair.start()
    pair.standins[0].uart.from_host(b"@send 2,tide\n")
    pair.run(1)
    assert b"@sent" in pair.heard[0]
    assert (b"@air snr 8 rssi -71 from 1: tide" in pair.heard[1]) == hears


@pytest.mark.parametrize(
    ("block", "hears"),
    [("b00144851c000000a5c9", True), ("b00148851c000000a5c5", False), ("b00144851c010000a5c8", False)],
)
def test_lora_as_a_cable(block: str, hears: bool) -> None:
    pair = Pair(("lindle-r2", {}), ("lindle-r2", {"block": block}))
    pair.start()
    assert pair.passes() == (hears, hears)
    pair.standins[0].set_pin("mode0", True)
    pair.standins[0].set_pin("mode1", True)
    assert pair.passes()[0] is False


@pytest.mark.parametrize(
    ("one", "two", "hears"),
    [
        ({"RO": 3}, {}, True),
        ({}, {}, False),
        ({"RO": 3}, {"NT": 1}, False),
        ({"RO": 3}, {"KH": 9}, False),
        ({"RO": 3, "KH": 9}, {"KH": 9}, True),
    ],
)
def test_a_mesh_needs_its_coordinator(one: dict[str, Any], two: dict[str, Any], hears: bool) -> None:
    pair = Pair(("fennick-z4", one), ("fennick-z4", two))
    pair.start()
    assert pair.passes() == (hears, hears)


@pytest.mark.parametrize(
    ("families", "near", "far"),
    [
        # Free space loses 40.2 dB to 1 m at 2.44 GHz, 31.2 dB at 868 MHz; 20 dB more for ten times as far: 4 dBm are -85 dBm
        # at 275 m, 6 dBm -97 dBm at 1.38 km, and 13 dBm -126.5 dBm at 260 km, 12.5 dB below the noise of 250 kHz.
        ((("tamsel-k5", {"part": "L", "mate": "02A15C00218E", "pass": "5050"}), ("tamsel-k6", {})), 0.25, 0.35),
        ((("fennick-z4", {"RO": 3}), ("fennick-z4", {})), 1.3, 1.5),
        ((("lindle-r2", {}), ("lindle-r2", {})), 100.0, 400.0),
    ],
)
def test_what_is_too_far_away_is_not_heard(families: Any, near: float, far: float) -> None:
    for distance, hears in ((near, True), (far, False)):
        pair = Pair(*families)
        for one, name, north in zip(pair.standins, "ab", (0.0, distance), strict=True):
            one.name, pair.air.places[name] = name, Place(north=north)
        pair.start()
        pair.run(10)
        assert pair.passes() == (hears, hears), distance


def test_access_points_have_signal_and_protection_and_the_sky_gives_a_fix_in_time() -> None:
    receiver = Bench("polmar-p1")
    receiver.standin.air = Air(AirTable(sky=Sky(latitude=-33.5, longitude=151.25, fix_in=20)))
    receiver.standin.restart()
    held = hold(receiver, "do position\n")
    assert held.kept["system"] == "GPS"
    assert abs(held.kept["latitude"] + Decimal("33.5")) < Decimal("0.001")  # type: ignore[operator]
    assert abs(held.kept["longitude"] - Decimal("151.25")) < Decimal("0.001")  # type: ignore[operator]
    assert receiver.agenda.now >= 20
    time = hold(receiver, "do time\n")
    # Leading zeros are part of a time and of a date.
    assert time.kept["date"] == "020326" and str(time.kept["time"]).startswith("08")


# -- cellular ---------------------------------------------------------------------------------------------------------


def hold(bench: Bench, text: str, **values: Any) -> DialogueOutput:
    session = bench.open()
    session.tune(bench.standin.uart.tuning)
    if bench.standin.uart.tuning != bench.lexicon.factory and not hasattr(bench.standin, "stat"):
        session.tune(bench.lexicon.factory)
    session.quiet(1.5)
    session.tune(bench.standin.uart.tuning)
    module = Module(session, bench.lexicon, bench.operator)
    return Runner(Party("", session, module, bench.operator), read_dialogue(text, "x"), values).run()


def test_a_network_takes_its_time_and_answers_in_numbers() -> None:
    one = Bench("cordal-n7")
    one.standin.air = Air(AirTable(network=Network(registers_in=90)))
    held = hold(one, "do register-eps\ndo signal\ndo addresses\ndo operator\ndo clock\ndo sim-state\n")
    assert one.agenda.now > 90
    assert held.kept["signal"] == -71 and held.kept["sim"] == "READY"
    assert held.kept["addresses"] == [{"context": 1, "address": "192.0.2.70"}]


SOCKET = """
needs host
needs kind
do register-eps
> AT+XOPEN=1,"{kind}","{host}",9
await 5s
    +XOPEN: 1,{result:int}
check result == 0
> AT+XSEND=1,8
< "> "
>> a\\r\\nb\\x00\\xFFc\\n
< OK
await 5s
    +XSENT: 1,0
await 5s
    +XRECV: 1,{size:int},{data:bytes(size)}
check size == 8
> AT+XCLOSE=1
"""


@pytest.mark.parametrize("kind", ["TCP", "UDP"])
def test_sockets_really_open_on_this_machine(kind: str) -> None:
    server = socket.socket(socket.AF_INET, socket.SOCK_STREAM if kind == "TCP" else socket.SOCK_DGRAM)
    server.bind(("127.0.0.1", 0))
    server.settimeout(20)

    def echo() -> None:
        if kind == "UDP":
            data, who = server.recvfrom(100)
            server.sendto(data, who)
            return
        server.listen()
        line, _ = server.accept()
        with line:
            line.sendall(line.recv(100))
            line.recv(1)

    thread = threading.Thread(target=echo)
    thread.start()
    one = Bench("cordal-n7")
    services = {"tides.example": f"127.0.0.1:{server.getsockname()[1]}"}
    one.standin.air = Air(AirTable(services=services, network=Network(registers_in=1)))
    hold(one, SOCKET, host="tides.example", kind=kind)
    thread.join(timeout=60)
    server.close()
    heard = one.trace.texts(Heard)
    assert "+XRECV: 1,8,a\r\nb\x00\udcffc\n" in heard


def test_nobody_is_reached_beyond_this_machine() -> None:
    one = Bench("cordal-n7")
    one.standin.air = Air(AirTable(services={"far.example": "192.0.2.1:80"}, network=Network(registers_in=1)))
    with pytest.raises(Exception, match="not so: result == 0"):
        hold(one, SOCKET, host="far.example", kind="TCP")


def test_a_module_goes_idle_and_asleep_and_its_first_line_only_wakes_it() -> None:
    one = Bench("cordal-n7")
    air = one.standin.air = Air(
        AirTable(services={"tides.example": "echo"}, network=Network(registers_in=1, idle_after=5))
    )
    text = (
        'set saving = true\nset active = "10s"\n> AT+CSCON=1\ndo register-eps\nawait 60s\n    +CSCON: 0\n'
        "await 60s\n    +XSLEEP: 1\n"
        "> AT\n<\nawait 5s\n    +XSLEEP: 0\n> AT\n"
    )
    began = one.agenda.now
    hold(one, text)
    assert one.agenda.now - began > 15 and air.network.idle_after == 5


def test_wi_fi_sockets_are_real_too() -> None:
    server = socket.create_server(("127.0.0.1", 0))
    thread = threading.Thread(target=lambda: [line.sendall(line.recv(100)) for line in [server.accept()[0]]])
    thread.start()
    one = Bench("brisca-w1")
    service = f"127.0.0.1:{server.getsockname()[1]}"
    one.standin.air = Air(AirTable({"Open": AccessPoint()}, {"tides.example": service}))
    text = (
        'set mode = "station"\nallow 9s\n> AT+ACCESS="Open",""\nawait 9s\n    +ACCESS 2\n'
        '> AT+LINK 0,"tides.example",7\nawait 5s\n    +LINK 0 UP\n'
        '> AT+POST 0 4\n< "> "\n>> a\\r\\nb\n< POSTED\nawait 20s\n    +IN 0 {size:int} {data:bytes(size)}\nkeep data\n'
    )
    assert hold(one, text).kept["data"] == "a\r\nb"
    thread.join(timeout=60)
    server.close()


@pytest.mark.parametrize(
    ("name", "chatter"),
    [("tamsel-k5", "+NEWS 7"), ("brisca-w1", "+NEWS 7"), ("lindle-l9", "@news"), ("cordal-n7", "+CSCON: 1")],
)
def test_a_line_between_each_command_and_its_answer_disturbs_nothing(name: str, chatter: str) -> None:
    from tests.rigs.test_standins import WANTED

    result = Bench(name, faults=WireFaults(chatter=chatter)).provision(**WANTED[name])
    assert result.verdict == "conforms", result.failure
