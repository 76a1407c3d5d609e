"""Traffic through finished links: what is counted is what became of the packets, in data mode and by command."""

from __future__ import annotations

import json
import os
import re
import threading
import time
import tty
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from math import log10, pi
from pathlib import Path
from typing import Any

import pytest
from matplotlib.image import imread

from tests.conftest import bench, virtual, wexicon
from wexicon.rigs.uart import WireFaults

PAIR = "".join(
    f'[unit.{name}]\nstandin = "lindle-l9"\nidentity = {{ serial = "L9-0062{n}" }}\nsettings = {{ addr = {n}, net = 6 }}\n'
    for n, name in enumerate(("quay", "mast"), 1)
)


@contextmanager
def wires(there: Callable[[int, bytes], bytes]) -> Iterator[tuple[str, str]]:
    """Two ports whose wires are crossed; `there` is what becomes of each packet, by its turn, on its way to the second."""
    ends = [os.openpty() for _ in range(2)]
    for end in ends:
        tty.setraw(end[1])
    turn = 0

    def pass_on(source: int, target: int, changed: Callable[[bytes], bytes]) -> None:
        try:
            while data := os.read(source, 4096):
                os.write(target, changed(data))
        except OSError:
            return

    def count(data: bytes) -> bytes:
        nonlocal turn
        turn += 1
        return there(turn, data)

    for source, target, changed in ((ends[0][0], ends[1][0], count), (ends[1][0], ends[0][0], lambda data: data)):
        threading.Thread(target=pass_on, args=(source, target, changed), daemon=True).start()
    try:
        yield os.ttyname(ends[0][1]), os.ttyname(ends[1][1])
    finally:
        for end in ends:
            os.close(end[1])
            os.close(end[0])


def spoiled(turn: int, data: bytes) -> bytes:
    """The third is lost, the fifth damaged, the seventh comes twice."""
    return {3: b"", 5: data[:10] + b"\x7e" + data[11:], 7: data * 2}.get(turn, data)


@pytest.mark.parametrize("form", [(), ("--bytes",)])
def test_what_was_lost_damaged_or_came_again_is_counted(form: tuple[str, ...]) -> None:
    words = ("--count", "10", "--within", "300ms", "--json", *form)
    with wires(spoiled) as ports:
        result = json.loads(wexicon("traffic", *ports, *words, status=1).stdout)
    out, back = result["ways"]
    counts = [[way[name] for name in ("sent", "received", "lost", "damaged", "duplicates")] for way in (out, back)]
    assert counts == [[10, 8, 1, 1, 1], [8, 8, 0, 0, 0]] and len(result["trips"]) == 10
    assert [one["number"] for one in result["trips"] if one["round_trip"] is None] == [3, 5]
    assert "1 lost, 1 damaged, 1 duplicate of 10" in result["failure"]["what"]
    with wires(lambda turn, data: data) as ports:
        assert "passed: 20 packets sent, 20 received" in wexicon("traffic", *ports, "--count", "10", *form).stdout
    with wires(lambda turn, data: b"") as ports:
        told = wexicon("traffic", *ports, "--count", "2", "--within", "200ms", *form, status=3)
        assert "Nothing came through" in told.stderr


def test_one_port_looped_back_and_for_a_time(tmp_path: Path) -> None:
    words = ("traffic", "loop://", "--for", "1s", "--every", "100ms", "--bytes", "--size", "200", "--plot", "t.png")
    told = json.loads(wexicon(*words, "--within", "30s", "--json").stdout)
    assert told["verdict"] == "passed" and 1 <= told["ways"][0]["received"] == told["ways"][0]["sent"] <= 10
    assert imread("t.png").shape[:2] == (800, 1280)
    assert "already exists; nothing was sent" in wexicon(*words, status=2).stderr


def test_modules_that_send_by_command_pass_texts_and_tell_the_signal() -> None:
    with virtual(PAIR) as rig:
        words = ("traffic", "mast", "quay", "--lexicon", "lindle-l9", "--count", "3")
        result = json.loads(wexicon(*words, "--json").stdout)
        assert [way["received"] for way in result["ways"]] == [3, 3] and result["signal"]["mast"]["rssi"] == [-71.0] * 3
        assert result["ways"][0]["way"] == "mast to quay" and 0.3 < result["median"] < 5
        quay: Any = rig.rig.units["quay"].standin
        rig.call(lambda: setattr(quay.uart, "faults", WireFaults(noise=0.003, seed=5)))
        spoilt = json.loads(wexicon(*words[:-1], "6", "--within", "600ms", "--json", status=1).stdout)
        assert sum(way["lost"] + way["damaged"] for way in spoilt["ways"]) > 0
        rig.call(lambda: setattr(quay.uart, "faults", WireFaults()))
        rig.call(lambda: quay.memory.update(net=5))
        assert "Nothing came through" in wexicon(*words[:-1], "1", "--within", "300ms", status=3).stderr
        assert "give the port of the other one too" in wexicon(*words[:2], *words[3:], status=2).stderr
        assert "sends text by command" in wexicon(*words, "--bytes", status=2).stderr


# -- sweeps -------------------------------------------------------------------------------------------------------------------

# 1.4 km with an exponent of 3.2: at 3 dBm it is 12.4 dB below the noise, at 14 dBm 1.4 dB.
FAR = (
    '[unit.mast]\nstandin = "lindle-l9"\nsettings = { addr = 2 }\n'
    '[unit.relay]\nstandin = "lindle-l9"\nsettings = { addr = 1 }\n'
    'identity = { serial = "L9-00500" }\n[air]\nexponent = 3.2\n[air.place.mast]\n[air.place.relay]\neast = 1.4\n'
)


def test_a_sweep_finds_where_it_is_heard_and_puts_the_settings_back() -> None:
    with virtual(FAR) as rig:
        words = ("traffic", "mast", "relay", "-l", "lindle-l9", "--count", "1", "--within", "1s")
        made = json.loads(wexicon(*words, "--sweep", "spreading=8..9,power=3", "--plot", "s.svg", "--json").stdout)
        assert [one["settings"] for one in made["points"]] == [
            {"spreading": "8", "power": "3 dBm"}, {"spreading": "9", "power": "3 dBm"},
        ]  # fmt: skip
        assert [one["lost"] for one in made["points"]] == [100.0, 0.0] and made["restored"]
        assert made["points"][1]["signal"]["relay"]["rssi"] == [-129.0] * 3 and not made["points"][0]["signal"]
        assert Path("s.svg").read_text().startswith("<?xml")
        told = wexicon(*words, "--sweep", "power=14").stdout
        assert "power (dBm)" in told and "the settings of both modules are as before, read back" in told
        for name in ("mast", "relay"):
            assert rig.rig.units[name].standin.memory["radio"] == (868100000, 9, 4, 14)
        assert not list(Path("state/unfinished").glob("*.json"))
        for text, fault in (
            ("spreading=6", "'6' is out of range"), ("spraeding=7", "did you mean spreading"), ("7,8", "belongs to no setting"),
            ("spreading=9..7", "is not a range"), ("rate=9601", "is a rate that the module does not have"),
        ):  # fmt: skip
            assert fault in wexicon(*words, "--sweep", text, status=2).stderr
        assert "needs two ports" in wexicon("traffic", "mast", "--sweep", "power=2", status=2).stderr


def test_what_a_restart_puts_into_effect_is_not_swept() -> None:
    Path("r.toml").write_text('format = 1\n[unit.a]\nstandin = "tamsel-k5"\n[unit.b]\nstandin = "tamsel-k5"\n')
    told = wexicon("traffic", "a", "b", "--rig", "r.toml", "--sweep", "name=x,y", status=2).stderr
    assert "name cannot be swept: it takes effect after a save or a restart" in told


@pytest.mark.parametrize("exponent", [2.4, 3.2])
def test_a_rehearsed_sweep_loses_what_the_link_budget_says(exponent: float) -> None:
    # Worked out here from the public formulas: free space to 1 m, 10 n log10(d) from there, -174 dBm/Hz, 6 dB of noise figure.
    Path("r.toml").write_text(f"format = 1\n{FAR.replace('exponent = 3.2', f'exponent = {exponent}')}")
    words = ("traffic", "mast", "relay", "--rig", "r.toml", "--count", "2", "--within", "9s", "--json")
    made = json.loads(wexicon(*words, "--sweep", "spreading=7..12,power=2,14", "--distance", "0.1,1,5,20").stdout)
    needs = {7: -7.5, 8: -10.0, 9: -12.5, 10: -15.0, 11: -17.5, 12: -20.0}
    noise = -174 + 10 * log10(125_000) + 6
    seen = set()
    for point in made["points"]:
        told = {name: float(text.split()[0]) for name, text in point["settings"].items()}
        loss = 20 * log10(4 * pi * 868.1e6 / 299_792_458) + 10 * exponent * log10(1000 * told["distance"])
        arrives = told["power"] - loss
        margin = arrives - noise - needs[int(told["spreading"])]
        assert abs(margin) > 0.1 and point["lost"] == (0 if margin > 0 else 100), point["settings"]
        if margin > 0:
            assert abs(point["signal"]["relay"]["rssi"][1] - arrives) <= 0.6
        seen.add(margin > 0)
    assert len(made["points"]) == 48 and made["restored"] and seen == {True, False} and made["seconds"] > 300


def test_modules_in_data_mode_are_swept_through_the_pins_of_a_fixture() -> None:
    cables = "".join(
        f'[unit.{name}]\nstandin = "lindle-r2"\nserve = "rfc2217"\nwiring = {{ dtr = "mode0", rts = "mode1" }}\n'
        for name in ("near", "far")
    )
    Path("pins.toml").write_text('format = 1\n[pin.mode0]\nline = "dtr"\n[pin.mode1]\nline = "rts"\n')
    words = ("traffic", "near", "far", "-l", "lindle-r2", "--count", "2", "--within", "1s", "--fixture", "pins.toml")
    with bench(cables) as rig:
        before = [rig.rig.units[name].standin.flash["block"] for name in ("near", "far")]
        made = json.loads(wexicon(*words, "--sweep", "rate=2400,115200,power=5", "--json").stdout)
        assert [(one["settings"]["rate"], one["lost"]) for one in made["points"]] == [
            ("2400 baud", 0),
            ("115200 baud", 0),
        ]
        assert made["points"][0]["median"] > 2 * made["points"][1]["median"] and made["restored"]
        assert [rig.rig.units[name].standin.flash["block"] for name in ("near", "far")] == before
    Path("r.toml").write_text("format = 1\n" + cables + "[air]\n[air.place.near]\n[air.place.far]\neast = 300\n")
    told = wexicon(*words[:3], "--rig", "r.toml", *words[5:9], "--sweep", "air-rate=14.4,0.9", "--json").stdout
    assert [one["lost"] for one in json.loads(told)["points"]] == [100, 0]


def test_a_module_that_takes_packets_for_commands_is_told_with_what_it_said() -> None:
    Path("r.toml").write_text('format = 1\n[unit.a]\nstandin = "brisca-w1"\n[unit.b]\nstandin = "brisca-w1"\n')
    told = wexicon("traffic", "a", "b", "--rig", "r.toml", "--count", "3", "--within", "300ms", status=3)
    assert "came instead at a: 3 times “FAULT 2” (no such command)" in told.stdout
    assert "the module answered 3 packets with “FAULT 2”" in told.stderr and "it is in command mode" in told.stderr
    for more, why in (((), "needs --rig and --sweep"), (("--sweep", "power=1"), "needs --rig")):
        assert why in wexicon("traffic", "a", "b", "--distance", "1", *more, status=2).stderr
    assert (
        "is not a list of kilometres"
        in wexicon("traffic", "a", "b", "--rig", "r.toml", "--sweep", "power=1", "--distance", "far", status=2).stderr
    )
    assert "there is no unit c" in wexicon("traffic", "a", "c", "--rig", "r.toml", status=2).stderr


@contextmanager
def buffered(room: int, *, honest: bool) -> Iterator[tuple[str, str]]:
    """Two ports with a device between that has `room` bytes; an `honest` one says XOFF while it is full, the other drops."""
    ends = [os.openpty() for _ in range(2)]
    for end in ends:
        tty.setraw(end[1])
        os.set_blocking(end[0], False)
    done = threading.Event()

    def work() -> None:
        held, stopped = b"", False
        source, target = ends[0][0], ends[1][0]
        while not done.is_set():
            moved = False
            with suppress(OSError):
                if data := os.read(source, 512):
                    held += data
                    moved = True
            if len(held) > room and not honest:
                held = held[:room]
            with suppress(OSError):
                held = held[os.write(target, held[:512]) if held else 0 :]
                moved = moved or bool(held)
            if honest and len(held) > room // 2 and not stopped:
                stopped = bool(os.write(source, b"\x13"))
            elif stopped and len(held) < room // 4:
                stopped = not os.write(source, b"\x11")
            if not moved:
                time.sleep(0.001)

    thread = threading.Thread(target=work, daemon=True)
    thread.start()
    try:
        yield os.ttyname(ends[0][1]), os.ttyname(ends[1][1])
    finally:
        done.set()
        thread.join()
        for end in ends:
            os.close(end[1])
            os.close(end[0])


def test_flow_control_is_proved_only_where_the_sender_is_held_back_and_nothing_is_lost() -> None:
    # More than the kernel takes between the two, however late its reader comes.
    words = ("--flow-proof", "--flow", "xon-xoff", "--rate", "921600", "--size", "240", "--count", "600")
    with buffered(4096, honest=True) as ports:
        told = json.loads(wexicon("traffic", *ports, *words, "--json").stdout)
        assert told["verdict"] == "passed" and told["sent"] == told["received"] == 600 and told["holds"]
    with buffered(4096, honest=True) as ports:
        assert "passed: it holds; nothing was lost" in wexicon("traffic", *ports, *words).stdout
    with buffered(4096, honest=False) as ports:
        told = wexicon("traffic", *ports, *words, status=1).stderr
        assert "it does not hold:" in told and "lost" in told
    with buffered(4096, honest=True) as ports:
        few = wexicon("traffic", *ports, *words[:-1], "4", status=4).stderr
        assert "the sender was never held back: the buffers took all 960 bytes" in few
        assert "there is no flow control to prove" in wexicon("traffic", *ports, "--flow-proof", status=2).stderr
        assert "goes with none of" in wexicon("traffic", *ports, *words, "--bytes", status=2).stderr


def test_a_sweep_that_is_stopped_puts_the_settings_back() -> None:
    from wexicon import api

    with virtual(FAR) as rig:
        points: list[object] = []
        setup = api.Setup(stopping=lambda: bool(points))
        order = api.TrafficOrder(count=1, within=1.0)
        ports = [rig.ports[name] for name in ("mast", "relay")]
        made = api.sweep(ports, "power=2,3,4", order, "lindle-l9", setup, measured=points.append)
        assert made.verdict == "stopped" and len(made.points) == 1 and made.restored
        assert rig.rig.units["mast"].standin.memory["radio"] == (868100000, 9, 4, 14)


def test_packets_that_take_longer_than_they_are_waited_for_are_not_called_a_weak_signal() -> None:
    ends = (
        '[unit.{0}]\nstandin = "lindle-l9"\nsettings = {{ addr = {1}, peer = {2}, radio = [868100000, 12, 4, 14] }}\n'
    )
    Path("slow.toml").write_text("format = 1\n" + ends.format("mast", 1, 7) + ends.format("relay", 7, 1))
    words = ("traffic", "mast", "relay", "--rig", "slow.toml", "--count", "2")
    short = wexicon(*words, status=1).stderr
    assert "--within is 2.0 s" in short and "weak signal" not in short
    assert "--within is 2.0 s" in wexicon(*words, "--sweep", "spreading=12").stdout
    assert "4 received intact" in wexicon(*words, "--within", "9s").stdout


def test_a_module_that_sends_by_command_is_not_said_to_be_in_the_wrong_mode() -> None:
    radio = '[unit.{0}]\nstandin = "lindle-l9"\nsettings = {{ addr = {1}, peer = {2}, net = 6 }}\n{3}'
    noisy = "faults = { lost = 0.002, seed = 4 }\n"
    Path("r.toml").write_text("format = 1\n" + radio.format("quay", 1, 2, "") + radio.format("mast", 2, 1, noisy))
    told = wexicon("traffic", "mast", "quay", "--rig", "r.toml", "--count", "40", "--every", "1s", status=1).stderr
    assert "Damaged packets point to noise" in told and "command mode" not in told
    refused = re.search(r"mast: (\d+) packets? refused, last: (.*)", told)
    assert refused and refused[1] == "2" and "no such command" in refused[2], told
