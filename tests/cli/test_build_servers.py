"""Results for build servers, read back by a library of others."""

from __future__ import annotations

import json
import re
import subprocess
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from junitparser import JUnitXml

from tests.conftest import SAMPLE, virtual, wexicon
from wexicon.core.results.result import Failure, Outcome, Verdict
from wexicon.core.results.unit import SettingResult, Shown, UnitResult
from wexicon.records.exports import junit_xml

SHEET = 'format = 1\n[seat.mast]\nlexicon = "lindle-l9"\nsettings = { name = "quay", network = 6 }\n'


def read(data: bytes) -> Any:
    Path("read.xml").write_bytes(data)
    return JUnitXml.fromfile("read.xml")


def test_a_unit_is_a_suite_and_its_settings_are_cases() -> None:
    Path("s.toml").write_text(SHEET)
    with virtual('[unit.mast]\nstandin = "lindle-l9"\n'):
        wexicon("provision", "s.toml", "virtual://mast", "--junit", "r.xml")
        assert "already exists" in wexicon("verify", "s.toml", "virtual://mast", "--junit", "r.xml", status=2).stderr
        Path("s.toml").write_text(SHEET.replace("quay", "pier"))
        wexicon("verify", "s.toml", "virtual://mast", "--junit", "v.xml", status=1)
    (suite,) = JUnitXml.fromfile("r.xml")
    assert (suite.name, suite.tests, suite.failures, suite.skipped) == ("mast", 3, 0, 0)
    assert [case.name for case in suite] == ["name", "network", "verdict"] and suite.time > 0
    told = {one.name: one.value for one in suite.properties()}
    assert told["model"] == "LINDLE-L9" and told["evidence"] == "restart" and told["port"] == "virtual://mast"
    (suite,) = JUnitXml.fromfile("v.xml")
    wrong = {case.name: case.result[0] for case in suite if case.result}
    assert set(wrong) == {"name", "verdict"} and suite.failures == 2
    assert "wanted: pier" in wrong["name"].text and "after: quay" in wrong["name"].text


def test_a_batch_with_its_tests_is_one_file() -> None:
    rig = (SAMPLE / "masts-rig.toml").read_text().replace("format = 1", "")
    with virtual(rig) as served:
        wexicon("provision", str(SAMPLE / "masts.toml"), *served.ports.values(), "--junit", "all.xml")
    whole = JUnitXml.fromfile("all.xml")
    suites = {suite.name: suite for suite in whole}
    assert set(suites) == {"relay", "mast M1", "mast M2", "mast M3"} and whole.failures == 0
    case = next(case for case in suites["mast M1"] if case.classname == "mast M1.tests")
    assert case.name == "heard" and "dBm" in str(case.tostring())


def test_a_failure_has_what_was_said_and_heard_and_a_hostile_name_changes_nothing() -> None:
    hostile = '<script>alert("1")</script>]]>&amp;\x1b[31m\x00\ud83d' + "x" * 5000
    result = UnitResult(verdict=Verdict.FAILED, seat=hostile, identity={"model": hostile})
    result.failure = Failure("write name", "it did not answer", "@name=x", "@ok", [hostile], "Check the wires.")
    result.settings = [SettingResult("name", Outcome.REFUSED, after=Shown(hostile, "", hostile), note=hostile)]
    (suite,) = read(junit_xml([result]))
    assert suite.name.startswith('<script>alert("1")</script>]]>&amp;\\x1B[31m')
    verdict = next(case for case in suite if case.name == "verdict")
    assert "said: @name=x" in verdict.result[0].text and "expected: @ok" in verdict.result[0].text
    assert "heard: <script>" in verdict.result[0].text and "Check the wires." in verdict.result[0].text


@given(st.text(max_size=60))
def test_no_text_breaks_the_file(text: str) -> None:
    from xml.etree import ElementTree

    result = UnitResult(verdict=Verdict.FAILED, seat=text, port=text, identity={text: text})
    result.failure = Failure(text, text, text, text, [text], text)
    made = ElementTree.fromstring(junit_xml([result]))
    assert made.get("failures") == "1" and len(made) == 1


# -- for the host's firmware -----------------------------------------------------------------------------------------------

PAIR = """format = 1
[seat.relay]
lexicon  = "lindle-l9"
settings = { name = 'relay "A" ??/ \\', address = 7, frequency = 868.3, spreading = 9, power = 14 }
[seat.up]
lexicon  = "cordal-n7"
settings = { rate = 9600, apn = "tide.example", active = "60s", saving = true }
[seat.plug]
lexicon  = "tamsel-k5"
settings = { name = "Withy", pin = { env = "PIN" } }
"""
PROGRAM = """#include "host.h"
#include <stdio.h>
int main(void) {
    printf("%s|%d|%d|%d|%d|%d|%s|%d|%d", RELAY_NAME, RELAY_ADDRESS, RELAY_FREQUENCY_HZ, RELAY_POWER_DBM, UP_RATE_BAUD,
           UP_ACTIVE_S, UP_APN, UP_SAVING, RELAY_SPREADING);
    return 0;
}
"""


@pytest.mark.long
def test_a_header_compiles_and_holds_the_sheets_values(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("PIN", "48213")
    Path("pair.toml").write_text(PAIR)
    wexicon("readout", "pair.toml", "-o", "host.h")
    Path("main.c").write_text(PROGRAM)
    subprocess.run(["cc", "-std=c99", "-Wall", "-Werror", "-trigraphs", "-o", "main", "main.c"], check=True)
    told = subprocess.run(["./main"], capture_output=True, text=True, check=True).stdout
    assert told == 'relay "A" ??/ \\|7|868300000|14|9600|60|tide.example|1|9'


def test_a_sheets_values_are_exported_with_units_in_their_names_and_no_secret(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv("PIN", "48213")
    Path("pair.toml").write_text(PAIR)
    done = wexicon("readout", "pair.toml", "--as", "json", "-o", "host.json").stdout
    assert "left out: plug.pin: secret" in done
    made = json.loads(Path("host.json").read_text())
    assert made["settings"]["RELAY_FREQUENCY_HZ"] == 868_300_000 and made["settings"]["UP_SAVING"] is True
    assert any(text.startswith("SHA-256 ") for text in made["about"]) and "48213" not in Path("host.json").read_text()
    wexicon("readout", "pair.toml", "--as", "env", "-o", "host.env")
    shown = subprocess.run(
        ["sh", "-c", '. ./host.env; printf "%s" "$RELAY_NAME/$UP_ACTIVE_S"'], capture_output=True, text=True, check=True
    )
    # A backslash is not the same to all readers of such a file: that value is named, and stands in the header.
    assert shown.stdout == "/60" and "# left out: RELAY_NAME: readers of such files" in Path("host.env").read_text()
    wexicon("readout", "pair.toml", "-o", "host.h")
    assert '#define RELAY_NAME         "relay \\042A\\042 \\077\\077/ \\134"' in Path("host.h").read_text()
    assert "already exists" in wexicon("readout", "pair.toml", "--as", "env", "-o", "host.env", status=2).stderr


def test_a_modules_values_are_exported_as_read() -> None:
    with virtual('[unit.mast]\nstandin = "lindle-l9"\nsettings = { addr = 7 }\n'):
        done = wexicon("readout", "virtual://mast", "-l", "lindle-l9", "-o", "m.h").stdout
    text = Path("m.h").read_text()
    assert (
        "wrote m.h" in done
        and re.search(r"#define ADDRESS +7\n", text)
        and re.search(r"#define RATE_BAUD +9600\n", text)
    )
    assert "serial L9-00417" in text.splitlines()[0]
