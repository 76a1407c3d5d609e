"""What stands around a bench: a program that takes each result, labels with measurements, a scanner that names a unit."""

from __future__ import annotations

import json
import sys
from pathlib import Path

import pytest

from tests.conftest import SAMPLE, bench, built, virtual, wexicon, without_times

SHEET = 'format = 1\ntitle = "Marrow"\n[seat.mast]\nlexicon = "lindle-l9"\nsettings = { name = "quay", network = 6 }\n'
TAKER = "import os, sys\nopen('taken.jsonl', 'a').write(sys.stdin.read() + '\\n')\nsys.exit(int('fail' in sys.argv))\n"


def fixture(*words: str) -> str:
    Path("taker.py").write_text(TAKER)
    command = " ".join((sys.executable, str(Path("taker.py").absolute()), *words))
    Path("jig.toml").write_text(f"format = 1\n[after]\ncommand = '{command}'\n")
    return command


def taken() -> list[dict[str, object]]:
    return [json.loads(line) for line in Path("taken.jsonl").read_text().splitlines()]


def test_a_command_takes_each_result_and_is_announced() -> None:
    Path("s.toml").write_text(SHEET)
    command = fixture()
    with virtual('[unit.mast]\nstandin = "lindle-l9"\n'):
        told = wexicon("provision", "s.toml", "virtual://mast", "--fixture", "jig.toml")
        assert f"jig.toml runs these commands: {command}" in told.stderr
        wexicon("verify", "s.toml", "virtual://mast", "--fixture", "jig.toml")
        wexicon("restore", "mast", "virtual://mast", "--fixture", "jig.toml", "--plan")
        wexicon("restore", "mast", "virtual://mast", "--fixture", "jig.toml")
    first, second, third = taken()
    assert [one["action"] for one in (first, second, third)] == ["provision", "verify", "restore"]
    assert first["verdict"] == "conforms" and first["unit"] == "L9-00417" and first["evidence"] == "restart"


def test_a_command_that_fails_is_said_and_changes_no_verdict() -> None:
    Path("s.toml").write_text(SHEET)
    fixture("fail")
    with virtual('[unit.mast]\nstandin = "lindle-l9"\n'):
        told = wexicon("provision", "s.toml", "virtual://mast", "--fixture", "jig.toml").stdout
    assert "conforms" in told and "failed with status 1" in told and len(taken()) == 1
    Path("jig.toml").write_text('format = 1\n[after]\ncommand = " "\n')
    wrong = wexicon("provision", "s.toml", "virtual://mast", "--fixture", "jig.toml", status=2).stderr
    assert "after.command: is empty" in wrong


def test_in_a_batch_each_unit_is_taken_once_with_its_tests(monkeypatch: pytest.MonkeyPatch) -> None:
    fixture()
    rig = (SAMPLE / "masts-rig.toml").read_text().replace("format = 1", "")
    with bench(rig) as served:
        built("provision", str(SAMPLE / "masts.toml"), *served.ports.values(), "--fixture", "jig.toml")
        wexicon("units", "label", "-o", "masts.svg", "--with", "address,signal")
    found = {str(one["seat"]): one for one in taken()}
    assert len(taken()) == 4 and set(found) == {"relay", "mast M1", "mast M2", "mast M3"}
    assert [test["verdict"] for test in found["mast M1"]["tests"]] == ["passed"]  # type: ignore[attr-defined]
    # What was measured stands on the label.
    kept = json.loads(wexicon("units", "show", "mast M1", "--json").stdout)[-1]
    measured = next(one for one in kept["result"]["tests"][0]["measurements"] if one["name"] == "signal")
    assert f"signal {measured['value']:g} dBm" in Path("masts.svg").read_text()


def test_a_scanned_label_shows_its_unit() -> None:
    Path("s.toml").write_text(SHEET)
    with virtual('[unit.mast]\nstandin = "lindle-l9"\n'):
        wexicon("provision", "s.toml", "virtual://mast")
    # The code of a label holds the unit as the register calls it.
    (unit,) = {one["unit"] for one in json.loads(wexicon("units", "list", "--json").stdout)}
    assert "mast of “Marrow”" in wexicon("units", "show", input=f"{unit}\r\n").stdout
    assert "no unit was named" in wexicon("units", "show", input="\n", status=2).stderr
    assert "no unit x" in wexicon("units", "show", input="x\n", status=2).stderr


def test_nothing_secret_reaches_the_command(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("PIN", "482130")
    fixture()
    Path("k.toml").write_text(
        'format = 1\n[seat.plug]\nlexicon = "tamsel-k5"\nsettings = { name = "Withy", pin = { env = "PIN" } }\n'
    )
    with virtual('[unit.plug]\nstandin = "tamsel-k5"\n') as served:
        wexicon("provision", "k.toml", served.ports["plug"], "--operator", "rig", "--fixture", "jig.toml")
    assert "482130" not in without_times(Path("taken.jsonl").read_text()) and len(taken()) == 1
