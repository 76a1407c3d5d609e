"""`ports`, `hail`, `readout`, `set` and `do`, as the built program against stand-ins on ports."""

from __future__ import annotations

import json
import os
import re
import socket
import threading
from pathlib import Path

import pytest
from serial.tools import list_ports

from tests.conftest import bench, clean, k5, virtual, wexicon
from wexicon.core.faults import CallFault

SCREEN = '[unit.screen]\nstandin = "brisca-w1"\n'
MAST = '[unit.mast]\nstandin = "lindle-l9"\n'


def test_a_name_for_a_port_can_stand_wherever_a_port_is_wanted(tmp_path: Path) -> None:
    with bench(MAST) as rig:
        told = wexicon("ports", "--name", f"bench-left={rig.ports['mast']}").stdout
        assert told == "bench-left stands for rig bench/mast\n"
        port = json.loads(wexicon("ports", "--json").stdout)[-1]
        assert (port["name"], port["unit"], port["key"]) == ("bench-left", "mast", "rig bench/mast")
        assert "LINDLE-L9" in wexicon("readout", "bench-left", "-l", "lindle-l9").stdout
        assert "LINDLE-L9" in wexicon("readout", "mast", "-l", "lindle-l9").stdout
        assert "did you mean bench-left" in wexicon("readout", "bench-lift", status=2).stderr
    assert "is not there" in wexicon("readout", "bench-left", status=2).stderr
    wexicon("ports", "--forget", "bench-left")
    assert "bench-left" not in (tmp_path / "config" / "ports.toml").read_text()
    assert "there is no port nowhere" in wexicon("ports", "--name", "x=nowhere", status=2).stderr
    assert "cannot be the name of a port" in wexicon("ports", "--name", "a/b=/dev/null", status=2).stderr


def test_a_readout_with_nothing_named_finds_the_lexicon_and_remembers_the_link() -> None:
    with virtual(SCREEN + "settings = { rate = 57600, power = 11 }\n") as rig:
        first = wexicon("readout", rig.ports["screen"], "--raw")
        assert "hail: brisca-w1 at 57600 8N1" in first.stderr
        power = next(line.split() for line in first.stdout.splitlines() if line.startswith("power"))
        assert power[:7] == ["power", "11", "dBm", "11", "changed", "(default", "20"]
        assert "lexicon brisca-w1 (shipped, stored for this port)" in first.stdout
        again = json.loads(wexicon("readout", "screen", "--json").stdout)
        assert again["exchanges"] < 16 and again["seconds"] < 1.5 and again["lexicon"] == "brisca-w1"
        assert {line["name"]: line["factory"]["shown"] for line in again["settings"]}["rate"] == "115200 baud"


def test_a_readout_is_compared_with_a_sheet_and_with_a_trace() -> None:
    with virtual(SCREEN) as rig:
        wexicon("readout", "screen", "-l", "brisca-w1", "-o", "s.toml", "--trace", "t.jsonl")
        assert "power = 20" in Path("s.toml").read_text()
        for record in ("s.toml", "t.jsonl"):
            told = wexicon("readout", "screen", "--against", record).stdout
            assert re.search(r"\b(\d+) of \1 settings are as in", told)
        wexicon("set", "screen", "power=3", "name=Gannet Quay")
        for record in ("s.toml", "t.jsonl"):
            told = wexicon("readout", "screen", "--against", record, status=1).stdout
            same, count = map(int, re.findall(r"(\d+) of (\d+) settings are as in", told)[0])
            assert count - same == 2 and count >= 9 and told.count("differs") == 2 and "Gannet Quay" in told
            assert "rate" not in told
        assert rig.rig.units["screen"].standin.flash["power"] == 3
        assert "already exists" in wexicon("readout", "screen", "-o", "s.toml", status=2).stderr


def test_set_checks_plans_writes_and_follows_the_link() -> None:
    with virtual(SCREEN) as rig:
        screen = rig.rig.units["screen"].standin
        words = ("set", rig.ports["screen"], "-l", "brisca-w1")
        told = wexicon(*words, "power=99", "rat=9600", status=2).stderr
        assert "'99' is out of range; allowed: 0 to 20 dBm" in told and "did you mean rate?" in told
        plan = wexicon(*words, "rate=38400", "power=4", "--plan").stdout
        writes = [line.split()[-1] for line in plan.splitlines() if "write" in line and "AT+" in line]
        assert writes == ["AT+POWER=4", "AT+RATE=38400"]
        assert "to be written" in plan and (screen.flash["power"], screen.flash["rate"]) == (20, 115200)
        done = wexicon(*words, "rate=38400", "power=4").stdout
        assert "conforms: 2 changed; read back after a restart" in done
        assert (screen.flash["power"], screen.flash["rate"]) == (4, 38400)
        assert "nothing written" in wexicon("set", "screen", "power=4").stdout


def test_a_secret_is_not_taken_from_the_call() -> None:
    with virtual(k5()) as rig:
        words = ("set", rig.ports["plug"], "-l", "tamsel-k5", "--operator", "rig")
        assert "every process could read it" in wexicon(*words, "pin=7319", status=2).stderr
        done = wexicon(*words, "role=leader", "--env", "pin=PLUG_PIN", env=clean({"PLUG_PIN": "7319"}))
        assert rig.rig.units["plug"].standin.flash["pass"] == "7319" and "7319" not in done.stdout + done.stderr
        assert (
            "peer: needs role = leader, and role = follower is wanted"
            in wexicon(*words, "peer=020000000001", "role=follower", status=2).stderr
        )


def test_do_does_one_thing_and_says_what_came_of_it() -> None:
    with virtual(SCREEN + '[air.access_point.quay]\nname = "Quay"\nsignal = -40\n'):
        words = ("do", "screen", "-l", "brisca-w1")
        assert "Quay   -40" in wexicon("do", "screen", "scan", "-l", "brisca-w1").stdout
        told = wexicon(*words[:2], "restart").stdout
        assert "restart observed" in told and "done: restart" in told
        assert "did you mean save?" in wexicon(*words[:2], "sav", status=2).stderr
        assert "AT+STORE" in wexicon(*words[:2], "save", "--plan").stdout
        assert json.loads(wexicon(*words[:2], "save", "--json").stdout)["verdict"] == "done"


def test_hail_says_what_it_found_what_it_says_and_what_by_hand(tmp_path: Path) -> None:
    with virtual(MAST + k5(powered="false")):
        lost = wexicon("hail", "virtual://plug", status=3).stdout
        assert "not found: nothing heard at 11 rates" in lost and "Hold the service key" in lost
    with virtual(MAST + k5()) as rig:
        found = wexicon("hail", rig.ports["mast"]).stdout
        assert "found: 9600 8N1, line ending lf, no echo" in found and "lexicons  lindle-l9" in found
        assert "next      wexicon readout mast" in found
        keyed = wexicon("hail", "plug", "-l", "tamsel-k5", "--operator", "rig").stdout
        assert "found: 57600 8N1" in keyed and "TAMSEL-K5" in keyed
    listed = wexicon("hail", "--list").stdout
    assert "with --escapes only" in listed and "~~~" in listed and "AT+LABEL={" not in listed


def test_hail_without_a_port_tries_those_that_are_free(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(list_ports, "comports", list)  # none of this machine's own
    from wexicon.core.tuning import Tuning
    from wexicon.links.port import open_port

    with bench(SCREEN + MAST) as rig:
        held = open_port(rig.ports["screen"], Tuning())
        done = wexicon("hail", "--json", env=clean({"WEXICON_CONFIG": "c"}))
        held.close()
        assert f"{rig.ports['screen']}: in use by wexicon (process {os.getpid()}); left alone" in done.stderr
        told = {one["port"]: one["family"] for one in json.loads(done.stdout)}
    assert told[rig.ports["mast"]] == "lindle-l9" and rig.ports["screen"] not in told


def test_a_socket_is_a_port_too() -> None:
    """A module behind a TCP port that passes bytes as they are."""
    server = socket.create_server(("127.0.0.1", 0))

    def serve() -> None:
        line, _ = server.accept()
        while data := line.recv(1000):
            line.sendall(
                b"@ok\n" if b"@\n" in data else b"@who LINDLE-L9 3.2 L9-1\n" if b"who" in data else b"@err 2\n"
            )

    threading.Thread(target=serve, daemon=True).start()
    told = wexicon("hail", f"socket://127.0.0.1:{server.getsockname()[1]}")
    assert "lindle-l9" in told.stdout
    server.close()


@pytest.mark.parametrize("options", [("--flow", "rts-cts"), ("--frame", "7E1"), ("--rate", "250000")])
def test_flow_frame_and_unusual_rates_are_taken(options: tuple[str, str]) -> None:
    with bench(MAST + 'serve = "rfc2217"\n') as rig:
        assert "LINDLE-L9" in wexicon("readout", rig.ports["mast"], "-l", "lindle-l9", *options).stdout
    assert "not a valid frame" in wexicon("readout", "/dev/null", "-l", "lindle-l9", "--frame", "9X1", status=2).stderr


@pytest.mark.parametrize("command", ["readout", "set", "do", "provision", "verify", "run", "talk"])
def test_every_command_says_why_nothing_answers(command: str) -> None:
    Path("s.toml").write_text('format = 1\n[seat.m]\nlexicon = "lindle-l9"\nsettings = { network = 4 }\n')
    Path("d.wex").write_text("> @net?\n< @net 4\n")
    more = {
        "set": ("network=4",), "do": ("save",), "readout": (), "talk": (), "run": (), "provision": (), "verify": (),
    }[command]  # fmt: skip
    with virtual(MAST + "powered = false\n"):
        port = "virtual://mast"
        first = {"provision": ("s.toml", port), "verify": ("s.toml", port), "run": ("d.wex", port)}.get(
            command, (port,)
        )
        named = () if command in ("provision", "verify") else ("-l", "lindle-l9")
        told = wexicon(command, *first, *more, *named, status=3, input="@\n")
    assert "nothing heard" in told.stderr and "TX and RX crossed" in told.stderr


def test_a_plan_of_a_sheet_says_none_of_it() -> None:
    Path("s.toml").write_text(
        'format = 1\n[seat.m]\nlexicon = "lindle-l9"\nsettings = { network = 4, frequency = 868.3 }\n'
    )
    with virtual(MAST) as rig:
        plan = json.loads(wexicon("provision", "s.toml", rig.ports["mast"], "--plan", "--json").stdout)
        assert plan["verdict"] == "planned" and rig.rig.units["mast"].standin.flash["net"] == 1
    assert [line["says"] for line in plan["plan"]][:3] == ["@net=4", "@radio=868300000,9,4,14", "@save"]


def test_a_usb_adapter_is_named_by_its_serial_number(monkeypatch: pytest.MonkeyPatch) -> None:
    from serial.tools import list_ports
    from serial.tools.list_ports_common import ListPortInfo

    from wexicon.work.contact import ports

    found = []
    for number, place in enumerate(("1-2:1.0", "1-2:1.1")):
        one = ListPortInfo(f"/dev/ttyUSB{number}", skip_link_detection=True)
        one.vid, one.pid, one.serial_number, one.location, one.product = 0x1D50, 0x6018, "SF-0042", place, "Two ports"
        found.append(one)
    monkeypatch.setattr(list_ports, "comports", lambda: found)
    with pytest.raises(CallFault, match="SF-0042 stands for 2 ports"):
        ports.port_named("SF-0042")
    found.pop()
    assert ports.port_named("SF-0042") == "/dev/ttyUSB0"
    assert ports.key_of("/dev/ttyUSB0") == "usb 1d50:6018 SF-0042 1.0"
    ports.name_port("quay", "SF-0042")
    found[0].device = "/dev/ttyUSB7"  # the same adapter, plugged in again
    assert ports.port_named("quay") == "/dev/ttyUSB7"


def test_a_port_that_vanished_is_found_again_only_where_it_is_proved_the_same(
    monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    from serial.tools.list_ports_common import ListPortInfo

    from wexicon.work.contact import ports

    one = ListPortInfo(str(tmp_path / "ttyUSB0"), skip_link_detection=True)
    one.vid, one.pid, one.location, one.product = 0x1D50, 0x6018, "1-2", "Port"
    found = [one]
    monkeypatch.setattr(list_ports, "comports", lambda: found)
    Path(one.device).touch()
    find = ports.device_at(one.device)
    assert find and find() == one.device
    found.clear()
    assert find() is None  # unplugged, and what the path leads to now is unknown
    other = ListPortInfo(one.device, skip_link_detection=True)
    other.vid, other.pid, other.location, other.product = 0x1D50, 0x6018, "1-3", "Port"
    found.append(other)
    assert find() is None  # another adapter, in another socket
    other.location = "1-2"
    assert find() == one.device
    with bench(MAST) as rig:
        mast = ports.device_at(rig.ports["mast"])
        assert mast and mast() == rig.ports["mast"]
    assert mast() is None


def test_talk_never_reopens_the_terminal_of_another(tmp_path: Path) -> None:
    import pty
    import subprocess
    import sys
    import tty

    theirs, ours = pty.openpty()
    tty.setraw(ours)
    words = [sys.executable, "-m", "wexicon", "talk", os.ttyname(ours), "--as-is", "--end", "cr"]
    with subprocess.Popen(
        words, stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.PIPE, env=clean({**os.environ})
    ) as talk:
        assert talk.stdin and talk.stdout and talk.stderr
        talk.stdin.write(b"AT\n")
        talk.stdin.flush()
        assert os.read(theirs, 9) == b"AT\r"
        os.close(ours)
        os.close(theirs)
        # Whoever opens the next terminal may get the same path: it is not waited for.
        assert talk.wait(20) == 3 and b"the port was lost" in talk.stderr.read()
