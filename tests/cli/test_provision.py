"""`readout`, `provision`, `verify` and `demo`, as the built program, on pseudo-terminals and RFC 2217 ports."""

from __future__ import annotations

import json
import re
import signal
import subprocess
import sys
import time
from pathlib import Path
from shutil import copy

import pytest

from tests.conftest import SAMPLE, bench, built, clean, k5, virtual, wexicon
from wexicon.core.protocol.session import Session
from wexicon.core.tuning import Tuning
from wexicon.links.port import open_port
from wexicon.rigs.serving import RigOperator
from wexicon.work.contact.catalog import find_lexicon
from wexicon.work.module.module import Module
from wexicon.work.provisioning.policy import Order
from wexicon.work.provisioning.run import provision

PIN = "48213"


@pytest.fixture
def sheet(tmp_path: Path) -> str:
    for name in ("service-plug.toml", "withy-plug.pin"):
        copy(SAMPLE / name, tmp_path)
    return "service-plug.toml"


@pytest.mark.parametrize("serve", ['"pty"', '"rfc2217"'])
def test_a_unit_is_provisioned_and_then_left_alone(sheet: str, serve: str, tmp_path: Path) -> None:
    with bench(k5(serve=serve)) as rig:
        port = rig.ports["plug"]
        first = wexicon("provision", sheet, port, "--operator", "rig", "--trace", "t.jsonl")
        assert "conforms: 5 changed; read back after a power cycle" in first.stdout
        if "rfc2217" in serve:
            return  # another kind of link; the rest is the same
        second = json.loads(wexicon("provision", sheet, port, "--operator", "rig", "--json").stdout)
        assert (second["verdict"], second["written"]) == ("conforms", 0)
        assert {line["outcome"] for line in second["settings"]} == {"unchanged"}
        verified = wexicon("verify", sheet, port, "--operator", "rig")
        assert "conforms: 5 unchanged, nothing written" in verified.stdout
        read = json.loads(wexicon("readout", port, "-l", "tamsel-k5", "--operator", "rig", "--json").stdout)
        assert {line["name"]: line["before"] for line in read["settings"]}["rate"]["shown"] == "115200 baud"
    shown = wexicon("trace", "show", "t.jsonl")
    assert "> AT+PASS=(secret)" in shown.stdout and "< +LABEL Withy Point" in shown.stdout
    written = b"".join(path.read_bytes() for path in tmp_path.rglob("*.jsonl"))
    told = first.stdout + first.stderr + shown.stdout + json.dumps([second, read]) + written.decode()
    # The digits of a PIN may stand in a time by chance.
    assert PIN not in re.sub(r"[0-9]+\.[0-9]+", "", told)


def test_what_the_module_cannot_take_is_refused_before_a_byte_is_sent(sheet: str, tmp_path: Path) -> None:
    path = tmp_path / sheet
    text = path.read_text().replace('"Withy Point"', '"Service plug of Withy Point"').replace("115200", "12345")
    path.write_text(text)
    (tmp_path / "withy-plug.pin").write_text("12x")
    with virtual(k5()) as rig:
        told = wexicon("provision", sheet, rig.ports["plug"], status=2).stderr
    assert not list(tmp_path.rglob("*.jsonl"))
    for part in (
        "service-plug.toml:9: seat.withy-plug.settings.name: 'Service plug of Withy Point' is 27 bytes long",
        "allowed: text of 1 to 20 bytes",
        "pin: the value (from the file withy-plug.pin) holds something else than digits\n    allowed: 4 to 8 digits",
        "12345 as rate is a rate that the module does not have\n    allowed: 4800, 9600",
    ):
        assert part in told
    assert "12x" not in told


def test_each_way_of_not_being_reached_has_its_own_message(sheet: str) -> None:
    units = '[unit.dead]\nstandin = "tamsel-k5"\npowered = false\n[unit.data]\nstandin = "tamsel-k5"\n'
    short = ("--operator", "nobody", "--patience", "500ms")
    with virtual(units):
        dead = wexicon("provision", sheet, "virtual://dead", *short, status=3)
        assert "nothing heard" in dead.stderr and "power and common ground" in dead.stderr
        data = wexicon("provision", sheet, "virtual://data", *short, status=3)
        assert "in data mode: at 9600 8N1 it said “K5 NO MATE”" in data.stderr and "key was not held" in data.stderr
    with bench('[unit.other]\nstandin = "tamsel-k5"\nidentity = { model = "BRISCA-W1" }\n') as rig:
        other = wexicon("provision", sheet, rig.ports["other"], "--operator", "rig", status=1)
        assert "another module: its model is BRISCA-W1" in other.stderr and "Nothing was changed" in other.stderr
    absent = wexicon("provision", sheet, "/dev/ttyNOT0", status=3)
    assert "there is no such port" in absent.stderr and "wexicon ports" in absent.stderr
    closed = wexicon("verify", sheet, "rfc2217://127.0.0.1:9", status=3)
    assert "cannot be reached" in closed.stderr


def test_ctrl_c_stops_between_two_exchanges_and_the_next_run_finishes(sheet: str) -> None:
    # Late answers leave time to interrupt in the middle of the writing.
    with bench(k5(faults="{ late = 0.12 }")) as rig:
        port = rig.ports["plug"]
        words = [sys.executable, "-m", "wexicon", "provision", sheet, port, "--operator", "rig", "--trace", "t.jsonl"]
        running = subprocess.Popen(words, stderr=subprocess.PIPE, text=True, env=clean({}))
        until = time.monotonic() + 60
        while time.monotonic() < until and "AT+LABEL=" not in _written("t.jsonl"):
            time.sleep(0.02)
        running.send_signal(signal.SIGINT)
        _, told = running.communicate(timeout=60)
        assert running.returncode == 130, told
        assert "stopped at the step “write " in told and "run it again to finish" in told
        assert "conforms" in wexicon("provision", sheet, port, "--operator", "rig").stdout


def _written(path: str) -> str:
    return Path(path).read_text() if Path(path).exists() else ""


def test_a_person_at_the_bench_is_asked_and_noticed(sheet: str) -> None:
    with bench(k5(powered="false")) as rig:
        words = [sys.executable, "-m", "wexicon", "readout", rig.ports["plug"], "-l", "tamsel-k5"]
        running = subprocess.Popen(words, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, env=clean({}))
        assert running.stderr and "Hold the service key" in running.stderr.readline()
        wexicon("rig", "key", "plug", "hold")
        wexicon("rig", "power", rig.ports["plug"], "on")
        told, errors = running.communicate(timeout=30)
    assert running.returncode == 0 and "TAMSEL-K5" in told and "the module answers" in errors


@pytest.mark.long
def test_the_demo_runs_and_leaves_nothing_behind(tmp_path: Path) -> None:
    told = built("demo", env=clean({"TMPDIR": str(tmp_path)})).stdout
    assert "conforms: 5 changed" in told and "conforms: 5 unchanged, nothing written" in told and "> AT+SPEED?" in told
    assert "4 of 4 conform" in told and "mast M3" in told
    assert PIN not in told and not list(tmp_path.glob("wexicon-demo-*"))


def test_what_a_module_is_called_cannot_move_the_cursor() -> None:
    with virtual(k5(settings='{ label = "a\\u001b[2Jb\\u202e" }')) as rig:
        words = ("readout", rig.ports["plug"], "-l", "tamsel-k5", "--operator", "rig")
        shown = wexicon(*words).stdout
        assert "a\\x1B[2Jb\\u202E" in shown and "\x1b" not in shown and "\u202e" not in shown


def test_an_operator_object_works_the_rig_from_code() -> None:
    lexicon = find_lexicon("tamsel-k5")
    with bench(k5()) as rig:
        link = open_port(rig.ports["plug"], Tuning(57600))
        session = Session(link, lexicon.dialect)
        result = provision(Module(session, lexicon, RigOperator(rig, "plug")), Order({"name": "Cobble Stair"}))
        link.close()
    assert result.verdict == "conforms" and rig.rig.units["plug"].standin.flash["label"] == "Cobble Stair"


def test_a_frame_that_the_port_does_not_have_is_not_written_to_the_module() -> None:
    with bench('[unit.gauge]\nstandin = "polmar-p1"\n') as rig:
        flash = dict(rig.rig.units["gauge"].standin.flash)
        Path("gauge.toml").write_text(
            'format = 1\n[seat.gauge]\nlexicon = "polmar-p1"\nsettings = { rate = { rate = 57600, parity = "even" } }\n'
        )
        told = wexicon("provision", "gauge.toml", "gauge", status=3)
        assert "this port cannot do 57600 8E1" in told.stderr and "rate was not written" in told.stderr
        assert rig.rig.units["gauge"].standin.flash == flash
