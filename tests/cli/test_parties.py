"""Dialogues between several parties: on ports and in virtual time, with sockets of this machine, and how they fail."""

from __future__ import annotations

import json
import os
import shutil
import socket
import subprocess
import sys
import threading
import tty
from contextlib import suppress
from pathlib import Path

import pytest

from tests.cli.terminal import Terminal
from tests.conftest import SAMPLE, bench, clean, k5, wexicon
from wexicon.rig.serving import PtyPort, Server

PAIR = k5() + '[unit.handset]\nstandin = "tamsel-k6"\n'
RADIOS = '[unit.mast]\nstandin = "lindle-l9"\n[unit.relay]\nstandin = "lindle-l9"\nsettings = { addr = 7 }\n'
UPLINK = (
    '[unit.uplink]\nstandin = "cordal-n7"\n[air.services]\n"tides.harbour.example" = "127.0.0.1"\n'
    "[air.network]\nregisters_in = 0.5\n"
)


@pytest.fixture(autouse=True)
def _samples(tmp_path: Path) -> None:
    for path in SAMPLE.glob("*.wex"):
        shutil.copy(path, tmp_path)


def pull(rig: Server, unit: str) -> None:
    """The port of a unit goes, as a cable does that is pulled."""
    port = rig._open.pop(unit)
    assert isinstance(port, PtyPort)
    rig.register(port.master, None)
    port.close()


def rehearse(file: str, rig: str, *words: str, status: int = 0) -> dict[str, object]:
    Path("rig.toml").write_text("format = 1\n" + rig)
    return dict(json.loads(wexicon("rehearse", file, "--rig", "rig.toml", "--json", *words, status=status).stdout))


@pytest.mark.parametrize(
    ("file", "rig", "names"),
    [
        ("plug-joined.wex", PAIR, ("plug", "handset")),
        ("mast-heard.wex", RADIOS, ("mast", "relay")),
        ("uplink-answered.wex", UPLINK, ("uplink",)),
    ],
)
def test_it_runs_on_ports_as_it_is_rehearsed(file: str, rig: str, names: tuple[str, ...]) -> None:
    rehearsed = rehearse(file, rig)
    own = []
    if "server" in Path(file).read_text():
        with socket.create_server(("127.0.0.1", 0)) as free:
            own = [f"port={free.getsockname()[1]}"]
    with bench(rig) as served:
        ports = [f"{name}={served.ports[name]}" for name in names]
        ran = json.loads(wexicon("run", file, *ports, *own, "--operator", "rig", "--json", "--trace", "t.jsonl").stdout)
    assert [one["name"] for one in ran["measurements"]] == [one["name"] for one in rehearsed["measurements"]]  # type: ignore[attr-defined]
    assert all(one["verdict"] == "passed" for one in ran["measurements"]) and set(names) <= set(ran["parties"])
    # One trace for all, on one clock.
    records = [json.loads(line) for line in Path("t.jsonl").read_text().splitlines()]
    assert {one["party"] for one in records[1:-1]} >= set(names) and records[-1]["what"] == "closed"
    assert f"{names[0]:8} >" in wexicon("trace", "show", "t.jsonl").stdout


def test_a_wrong_pin_is_refused_and_the_right_one_joins() -> None:
    failed = rehearse("plug-joined.wex", PAIR, "pin=4711", status=1)
    told = failed["failure"]
    assert isinstance(told, dict)
    assert told["what"] == "the event did not come within 20s" and "line 14 at plug: await 20s" in told["step"]
    assert told["heard"] == ["K5 NO MATE"]
    assert rehearse("plug-joined.wex", PAIR, "pin=5050")["verdict"] == "passed"


def test_what_one_says_while_another_is_waited_for_is_kept_in_order_and_timed() -> None:
    Path("d.wex").write_text(
        "party a = lindle-l9\nparty b = lindle-l9\n"
        "at b\n    read address\n"
        "at a\n    repeat 5 times\n        > @send {address},tide\n        < @sent\n"
        "    pause 2s\n"
        "at b\n    repeat 5 times\n        await 100ms as took\n            @air ... from 0: tide\n        check took == 0\n"
    )
    assert rehearse("d.wex", RADIOS.replace("mast", "a").replace("relay", "b"))["verdict"] == "passed"


def test_a_flood_from_one_party_keeps_nobody_from_the_others() -> None:
    Path("d.wex").write_text(
        'party uplink = cordal-n7\nneeds port int\nopen noise "socket://127.0.0.1:{port}"\nat uplink\n    repeat 20 times\n'
        "        > AT\n        < OK\nclose noise\n"
    )
    with socket.create_server(("127.0.0.1", 0)) as server, bench(UPLINK) as rig:
        done = threading.Event()

        def flood() -> None:
            client, _ = server.accept()
            client.settimeout(0.2)
            while not done.is_set():
                try:
                    client.sendall(b"and no end to it\r\n" * 500)
                except OSError:
                    return

        thread = threading.Thread(target=flood, daemon=True)
        thread.start()
        wexicon("run", "d.wex", f"uplink={rig.ports['uplink']}", f"port={server.getsockname()[1]}", "--operator", "rig")
        done.set()
        thread.join()


def test_a_client_that_leaves_half_way_is_a_clear_failure_and_what_it_said_is_not_lost() -> None:
    Path("d.wex").write_text(
        'party uplink = cordal-n7\nneeds port int\nopen client "socket://127.0.0.1:{port}"\nat uplink\n    > AT\n    < OK\n'
        "at client\n    await 2s\n        first\n    await 2s\n        second\n"
    )
    with socket.create_server(("127.0.0.1", 0)) as server, bench(UPLINK) as rig:

        def leave() -> None:
            client, _ = server.accept()
            client.sendall(b"first\r\n")
            client.close()

        threading.Thread(target=leave, daemon=True).start()
        words = (
            "run",
            "d.wex",
            f"uplink={rig.ports['uplink']}",
            f"port={server.getsockname()[1]}",
            "--operator",
            "rig",
        )
        told = wexicon(*words, status=3).stderr
    assert "the other side has closed the connection" in told and "at client" in told


def test_a_port_that_is_pulled_is_told_with_its_party_and_the_trace_has_what_the_others_said() -> None:
    Path("d.wex").write_text(
        "party mast = lindle-l9\nparty relay = lindle-l9\nat mast\n    > @who?\n    < @who ...\n"
        "at relay\n    await 20s\n        @air never\n"
    )
    with bench(RADIOS) as rig:
        ports = [f"{name}={rig.ports[name]}" for name in ("mast", "relay")]
        words = [sys.executable, "-m", "wexicon", "run", "d.wex", *ports, "--trace", "t.jsonl"]
        running = subprocess.Popen(words, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, env=clean({}))
        assert running.stdout and any("LINDLE-L9" in line for line in iter(running.stdout.readline, ""))
        rig.call(lambda: pull(rig, "relay"))
        _, told = running.communicate(timeout=30)
    assert running.returncode == 3 and "line 7 at relay: await 20s" in told and "the port was lost" in told
    assert "LINDLE-L9" in Path("t.jsonl").read_text() and '"closed"' in Path("t.jsonl").read_text()


def test_a_cable_that_is_looped_gives_back_what_was_sent() -> None:
    master, slave = os.openpty()
    tty.setraw(slave)

    def loop() -> None:
        with suppress(OSError):
            while True:
                os.write(master, os.read(master, 4096))

    threading.Thread(target=loop, daemon=True).start()
    assert "round_trip" in wexicon("run", "cable-looped.wex", f"cable={os.ttyname(slave)}").stdout
    assert "there is no stand-in for cable" in wexicon("rehearse", "cable-looped.wex", status=2).stderr
    os.close(slave)
    os.close(master)


def test_what_only_a_person_can_read_is_asked_and_skipped_where_nobody_is_there() -> None:
    Path("d.wex").write_text(
        'party mast = lindle-l9\nat mast\n    > @\n    < @ok\nask power "What does the watt meter show, in dBm?" decimal\n'
        "measure power = power dBm from 10 to 14\n"
    )
    with bench(RADIOS) as rig:
        port = f"mast={rig.ports['mast']}"
        told = wexicon("run", "d.wex", port, status=4).stderr
        assert "skipped" in told and "nobody is there to answer: What does the watt meter show" in told
        terminal = Terminal("run", "d.wex", port, columns=200)
        terminal.read("What does the watt meter show")
        terminal.type("about ten\n")
        terminal.read("is not")
        terminal.type("12.5\n")
        assert terminal.end() == 0 and "12.5 dBm" in terminal.text()


@pytest.mark.parametrize(
    ("ports", "told"),
    [
        (["mast=a"], "no port for relay"),
        (["mast=a", "relay=a"], "each party needs a port of its own"),
        (["mast=a", "relay=b", "buoy=c"], "the dialogue needs no buoy"),
        (["mast=a", "relay=b", "-l", "lindle-l9"], "the dialogue names the lexicon of each party"),
    ],
)
def test_calls_that_are_wrong_say_so(ports: list[str], told: str) -> None:
    assert told in wexicon("run", "mast-heard.wex", *ports, status=2).stderr


@pytest.mark.parametrize(
    ("text", "told"),
    [
        ("party a = lindle-l9\n> @\n", "2:1: at which party is this?"),
        ("party a = lindle-l9\nat b\n    > @\n", "2:1: there is no party b"),
        ("party a = lindle-l9\nneeds a\n", "a is declared twice"),
        ("party a = lindle-l9\nparty a = lindle-l9\n", "a is declared twice"),
        ('open s "listen://127.0.0.1:1"\n', "no party is declared"),
        ("party a = lindle-l9\nwhen 1 == 1\n    party b\n", "may only stand at the margin"),
        ('party a = lindle-l9\nask x "?" rune\n', "rune is not a kind"),
        ("party a = lindle-l9\nat a\n    await 2 s as took\n        x\n", "is not a duration"),
    ],
)
def test_a_dialogue_that_cannot_be_run_is_told_with_its_line(text: str, told: str) -> None:
    Path("d.wex").write_text(text)
    assert told in wexicon("rehearse", "d.wex", status=2).stderr
