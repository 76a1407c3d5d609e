"""Dialogues between several parties: on ports and in virtual time, with sockets of this machine, and how they fail."""

from __future__ import annotations

import json
import os
import re
import shutil
import socket
import subprocess
import sys
import threading
import time
import tty
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from http.client import HTTPConnection
from pathlib import Path

import pytest
from matplotlib.image import imread

from tests.cli.terminal import Terminal
from tests.conftest import SAMPLE, bench, clean, k5, virtual, wexicon
from wexicon.rigs.pty_ports import PtyPort
from wexicon.rigs.serving import Server

PAIR = k5() + '[unit.handset]\nstandin = "tamsel-k6"\n'
RADIOS = '[unit.mast]\nstandin = "lindle-l9"\n[unit.relay]\nstandin = "lindle-l9"\nsettings = { addr = 7 }\n'
UPLINK = (
    '[unit.uplink]\nstandin = "cordal-n7"\n[air.services]\n"tides.harbour.example" = "127.0.0.1"\n'
    "[air.network]\nregisters_in = 0.5\n"
)


@pytest.fixture(autouse=True)
def _samples(tmp_path: Path) -> None:
    for path in (
        *SAMPLE.glob("*.wex"),
        *SAMPLE.glob("plugs.*"),
        SAMPLE / "radio-pair.toml",
        SAMPLE / "harbour-office.key",
    ):
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


# What `bench` writes the first line of.
ESTUARY = (SAMPLE / "estuary.toml").read_text().replace("format = 1\n", "")
KEY = ("--file", "passphrase=harbour-office.key")
SHORT = ("asked_active=00000010", "asked_periodic=01100101")  # 4 s and 10 s
LONG = pytest.mark.long


def free_port() -> int:
    with socket.create_server(("127.0.0.1", 0)) as free:
        return int(free.getsockname()[1])


@contextmanager
def echoing() -> Iterator[int]:
    """An echo server on this machine, by TCP and by UDP on the same port."""
    server = socket.create_server(("127.0.0.1", 0))
    port = server.getsockname()[1]
    datagrams = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    datagrams.bind(("127.0.0.1", port))

    def streams() -> None:
        with suppress(OSError):
            client, _ = server.accept()
            while data := client.recv(4096):
                client.sendall(data)

    def packets() -> None:
        with suppress(OSError):
            while True:
                data, sender = datagrams.recvfrom(4096)
                datagrams.sendto(data, sender)

    for serve in (streams, packets):
        threading.Thread(target=serve, daemon=True).start()
    yield port
    server.close()
    datagrams.close()


@pytest.mark.parametrize(
    ("file", "names", "words"),
    [
        pytest.param("plug-joined.wex", "plug handset", (), marks=LONG),
        pytest.param("buoys-heard.wex", "quay north south", (), marks=LONG),
        pytest.param("pair-joined.wex", "plug handset", (), marks=LONG),
        pytest.param("mast-moved.wex", "mast relay", (), marks=LONG),
        pytest.param("sleep-observed.wex", "uplink", ("port", *SHORT), marks=LONG),
        pytest.param("uplink-echoed.wex", "uplink", ("echo",), marks=LONG),
        ("mast-heard.wex", "mast relay", ()),
        ("uplink-answered.wex", "uplink", ("port",)),
        ("pages-served.wex", "screen", ("port", *KEY)),
        ("bytes-echoed.wex", "screen", ("echo", *KEY)),
        ("message-passed.wex", "watch office", ()),
        ("call-rings.wex", "watch office", ()),
    ],
)
def test_it_runs_on_ports_as_it_is_rehearsed(file: str, names: str, words: tuple[str, ...]) -> None:
    own = [word for word in words if word not in ("port", "echo")]
    rig = ESTUARY.replace('active_time  = "00100001"', "") if SHORT[0] in own else ESTUARY
    rehearsed = rehearse(file, rig, *own)
    with bench(rig.replace('= "echo"', '= "127.0.0.1"')) as real, echoing() as echo:
        if "port" in words or "echo" in words:
            own.append(f"port={free_port() if 'port' in words else echo}")
        ports = [f"{name}={real.ports[name]}" for name in names.split()]
        ran = json.loads(wexicon("run", file, *ports, *own, "--operator", "rig", "--json", "--trace", "t.jsonl").stdout)
    assert [one["name"] for one in ran["measurements"]] == [one["name"] for one in rehearsed["measurements"]]  # type: ignore[attr-defined]
    assert all(one["verdict"] == "passed" for one in ran["measurements"]) and set(names.split()) <= set(ran["parties"])
    # One trace for all, on one clock.
    records = [json.loads(line) for line in Path("t.jsonl").read_text().splitlines()]
    assert {one["party"] for one in records[1:-1]} >= set(names.split()) and records[-1]["what"] == "closed"
    assert f"{names.split()[0]:8} >" in wexicon("trace", "show", "t.jsonl").stdout


@pytest.mark.parametrize(
    ("file", "change", "words", "told"),
    [
        ("plug-joined.wex", ("needs wrong digits = ", "needs wrong digits = '5050' #"), ("wrong=5050",), "at plug"),
        ("plug-joined.wex", ("await 20s as", "await 20s as"), ("pin=4712",), "the event did not come within 20s"),
        ("pair-joined.wex", ("set pin = wrong", "set pin = pin"), (), "K5 NO MATE"),
        (
            "pair-joined.wex",
            ("    set asks = false\n    do save", "    do save"),
            (),
            "the event did not come within 20s",
        ),
        ("buoys-heard.wex", ("(network + 1) % 65536", "network"), (), "something came, and nothing should"),
        (
            "buoys-heard.wex",
            ("set destination = north_address", "set destination = 65535"),
            (),
            "at south: await 2s nothing",
        ),
        ("mast-moved.wex", ("set frequency = other", "set frequency = frequency"), (), "something came"),
        ("mast-moved.wex", ("(network + 1) % 16", "network"), (), "something came"),
        ("pages-served.wex", ("> AT+DROP {channel}", "> AT"), KEY, "the connection was not closed within 5s"),
        ("pages-served.wex", ("> AT+SERVE 0", "> AT"), KEY, "answers, and nothing should answer there"),
        ("pages-served.wex", ("> AT+SERVE {port}", "> AT"), KEY, "nothing answers there"),
        ("bytes-echoed.wex", ("check echoed == payload", "check echoed == ramp(7)"), KEY, "not so: echoed == ramp(7)"),
        ("sleep-observed.wex", ("AT+CPSMS=1,,", "AT+CPSMS=0,,"), (), "the answer ended after"),
        ("sleep-observed.wex", ("    let slept", "    >> AT\\r\n    let slept"), (), "outside its limits"),
        ("call-rings.wex", ("ATD{office_number};", "ATD+441632960099;"), (), "the event did not come within 30s"),
        ("message-passed.wex", ("check sender == watch_number", "check sender == office_number"), (), "not so"),
    ],
)
def test_what_does_not_happen_fails(file: str, change: tuple[str, str], words: tuple[str, ...], told: str) -> None:
    text = Path(file).read_text()
    assert change[0] in text
    Path(file).write_text(text.replace(*change))
    Path("rig.toml").write_text("format = 1\n" + ESTUARY)
    assert told in wexicon("rehearse", file, "--rig", "rig.toml", *words, status=1).stderr


def test_a_sleep_is_measured_against_what_was_granted_and_what_was_observed() -> None:
    told = rehearse("sleep-observed.wex", ESTUARY)
    seen = {one["name"]: one["value"] for one in told["measurements"]}  # type: ignore[attr-defined]
    assert (seen["active_asked"], seen["active_granted"], seen["periodic_granted"]) == (120, 60, 3600)
    assert abs(seen["active_observed"] - 60) < 0.1 and abs(seen["periodic_observed"] - 3600) < 0.1
    assert told["seconds"] > 3600  # type: ignore[operator]


PLUGS = '[unit.phone]\nstandin = "orvane-b3"\n' + "".join(
    f'[unit.{one}]\nstandin = "tamsel-k6"\n' for one in ("w1", "f1", "c1")
)


@pytest.mark.parametrize(("sheet", "tests"), [("plugs.toml", ["seen"] * 3), ("radio-pair.toml", ["range"])])
def test_a_sheet_of_the_samples_is_rehearsed_with_its_tests(sheet: str, tests: list[str]) -> None:
    Path("rig.toml").write_text("format = 1\n" + ESTUARY)
    found = json.loads(wexicon("rehearse", sheet, "--rig", "rig.toml", "--json").stdout)
    units = found["units"] if isinstance(found, dict) else found
    assert all(one["verdict"] == "conforms" for one in units)
    assert [(one["name"], one["verdict"]) for unit in units for one in unit["tests"]] == [
        (name, "passed") for name in tests
    ]


@pytest.mark.long
@pytest.mark.parametrize(("sheet", "rig", "count"), [("plugs.toml", PLUGS, 3), ("radio-pair.toml", RADIOS, 1)])
def test_a_sheet_of_the_samples_does_the_same_on_ports(sheet: str, rig: str, count: int) -> None:
    with bench(rig) as real:
        ports = (
            [*real.ports.values()]
            if sheet == "plugs.toml"
            else [f"{one}={real.ports[one]}" for one in ("mast", "relay")]
        )
        told = wexicon("provision", sheet, *ports, "--operator", "rig", "--json").stdout
        found = [json.loads(line) for line in told.splitlines()] if told.startswith("{") else json.loads(told)
        tests = [one for unit in found for one in unit["tests"]]
        assert len(tests) == count and {one["verdict"] for one in tests} == {"passed"}
        if sheet == "plugs.toml":
            names = {real.rig.units[one].standin.flash["L"] for one in ("w1", "f1", "c1")}
            assert names == {"Withy plug", "Ferry plug", "Cobble plug"}


def test_a_dialogue_is_drawn_from_what_was_said_heard_and_measured() -> None:
    Path("rig.toml").write_text("format = 1\n" + ESTUARY)
    words = ("rehearse", "sleep-observed.wex", "--rig", "rig.toml", "--plot", "s.svg")
    told = json.loads(wexicon(*words, "--json").stdout)
    drawn = Path("s.svg").read_text()
    assert drawn.startswith("<?xml") and told["trace"] == ""
    assert "already exists" in wexicon(*words, status=2).stderr
    assert "is none of" in wexicon(*words[:-1], "s.txt", status=2).stderr
    with virtual(RADIOS) as rig:
        ports = [f"{name}={rig.ports[name]}" for name in ("mast", "relay")]
        wexicon("run", "mast-heard.wex", *ports, "--operator", "rig", "--plot", "m.png")
    assert imread("m.png").shape[:2] == (800, 1280)


def test_two_clients_of_this_machine_get_each_its_own_page() -> None:
    text = Path("pages-served.wex").read_text()
    served = (
        text[: text.index("open first")]
        + text[text.index("at screen\n    repeat 2 times") : text.index("at first\n    await")]
    )
    Path("d.wex").write_text(
        served.replace("await 5s", "await 20s")
        + text[text.index("at screen\n    > AT+SERVE 0") : text.index("open late")]
    )
    port, pages = free_port(), {}

    def browse() -> None:
        for _ in range(400):
            with suppress(OSError):
                browser = HTTPConnection("127.0.0.1", port, timeout=10)
                browser.request("GET", "/tide")
                answer = browser.getresponse()
                pages["tide"] = (answer.status, answer.read())
                return
            time.sleep(0.05)

    def ask() -> None:
        for _ in range(400):
            with suppress(OSError), socket.create_connection(("127.0.0.1", port), timeout=10) as raw:
                raw.sendall(b"GET /wind HTTP/1.0\r\n\r\n")
                while part := raw.recv(4096):
                    pages["wind"] = pages.get("wind", b"") + part
                return
            time.sleep(0.05)

    with bench(ESTUARY) as rig:
        clients = [threading.Thread(target=one, daemon=True) for one in (browse, ask)]
        for one in clients:
            one.start()
        told = wexicon("run", "d.wex", f"screen={rig.ports['screen']}", f"port={port}", *KEY).stdout
        for one in clients:
            one.join(timeout=60)
        with pytest.raises(OSError):
            socket.create_connection(("127.0.0.1", port), timeout=1)
    assert pages["tide"] == (200, b"1.204 m") and pages["wind"].endswith(b"\r\n\r\nSW 6")
    channels = re.findall(r"channel (\d): a request of (\d+) bytes", told)
    assert ({channel for channel, _ in channels} == {"0", "1"} and ("1", "22") in channels) or ("0", "22") in channels


def test_what_one_says_while_another_is_waited_for_is_kept_in_order_and_timed() -> None:
    Path("d.wex").write_text(
        "party a = lindle-l9\nparty b = lindle-l9\n"
        "at b\n    read address\n"
        "at a\n    repeat 5 times\n        > @send {address},tide\n        < @sent\n"
        "    pause 2s\n"
        "at b\n    repeat 5 times\n        await 100ms queued as took\n            @air ... from 0: tide\n"
        "        check took == 0\n"
    )
    assert rehearse("d.wex", RADIOS.replace("mast", "a").replace("relay", "b"))["verdict"] == "passed"


@pytest.mark.parametrize(
    ("said", "queued", "verdict"), [("tide", "", "passed"), ("other", "", "failed"), ("other", " queued", "passed")]
)
def test_an_event_of_before_the_last_line_is_no_answer_to_it(said: str, queued: str, verdict: str) -> None:
    # The same text was heard once before the line whose effect is awaited; that line has it heard again, or does not.
    Path("d.wex").write_text(
        "party a = lindle-l9\nparty b = lindle-l9\nat b\n    read address\nat a\n    > @send {address},tide\n    < @sent\n"
        f"    pause 3s\n    mark sent\n    > @send {{address}},{said}\n    < @sent\n"
        f"at b\n    await 3s{queued}\n        @air ... from 0: tide\nmeasure travel = since(sent) s to 5\n"
    )
    made = rehearse("d.wex", RADIOS.replace("mast", "a").replace("relay", "b"), status=int(verdict == "failed"))
    assert made["verdict"] == verdict
    early = "came before the last line was said. To accept it: await 3s queued" in str(made.get("failure"))
    assert early == (verdict == "failed")


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
