"""Traffic through finished links: what is counted is what became of the packets, in data mode and by command."""

from __future__ import annotations

import json
import os
import threading
import tty
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import pytest
from matplotlib.image import imread

from tests.conftest import bench, wexicon
from wexicon.rig.uart import WireFaults

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
    told = json.loads(wexicon(*words, "--json").stdout)
    assert told["verdict"] == "passed" and 7 <= told["ways"][0]["received"] <= 10
    assert imread("t.png").shape[:2] == (800, 1280)
    assert "already exists; nothing was sent" in wexicon(*words, status=2).stderr


def test_modules_that_send_by_command_pass_texts_and_tell_the_signal() -> None:
    with bench(PAIR) as rig:
        words = ("traffic", "mast", "quay", "--lexicon", "lindle-l9", "--count", "3")
        result = json.loads(wexicon(*words, "--json").stdout)
        assert [way["received"] for way in result["ways"]] == [3, 3] and result["signal"]["mast"]["rssi"] == [-71.0] * 3
        assert result["ways"][0]["way"] == "mast to quay" and 0.3 < result["median"] < 5
        quay: Any = rig.bench.units["quay"].standin
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
    with bench(FAR) as rig:
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
            assert rig.bench.units[name].standin.memory["radio"] == (868100000, 9, 4, 14)
        assert not list(Path("state/unfinished").glob("*.json"))
        for text, fault in (
            ("spreading=6", "'6' is out of range"), ("spraeding=7", "did you mean spreading"), ("rate=9600", "cannot be swept"),
            ("spreading=9..7", "is not a range"), ("7,8", "has no setting 7"),
        ):  # fmt: skip
            assert fault in wexicon(*words, "--sweep", text, status=2).stderr
        assert "needs two ports" in wexicon("traffic", "mast", "--sweep", "power=2", status=2).stderr


def test_a_sweep_that_is_stopped_puts_the_settings_back() -> None:
    from wexicon import api

    with bench(FAR) as rig:
        points: list[object] = []
        setup = api.Setup(stopping=lambda: bool(points))
        order = api.TrafficOrder(count=1, within=1.0)
        ports = [rig.ports[name] for name in ("mast", "relay")]
        made = api.sweep(ports, "power=2,3,4", order, "lindle-l9", setup, measured=points.append)
        assert made.verdict == "stopped" and len(made.points) == 1 and made.restored
        assert rig.bench.units["mast"].standin.memory["radio"] == (868100000, 9, 4, 14)
