"""Many units: swapped on one port, at once on several; the same module refused, a ring solved, a failure on its own."""

from __future__ import annotations

import json
import shutil
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import pytest

from tests.cli.terminal import Terminal
from tests.conftest import SAMPLE, bench, built, clean, virtual, wexicon
from tests.core.test_jobs import PAIR

RADIOS = "".join(
    f'[unit.radio-{n}]\nstandin = "lindle-l9"\nidentity = {{ serial = "L9-0061{n}" }}\n' for n in (1, 2, 3, 4)
)


@pytest.fixture(autouse=True)
def _sheet(tmp_path: Path) -> None:
    for name in ("masts.toml", "masts.csv", "mast-heard.wex"):
        shutil.copy(SAMPLE / name, tmp_path)


def test_masts_and_relay_are_made_on_four_ports_at_once() -> None:
    with virtual(RADIOS) as rig:
        done = wexicon("provision", "masts.toml", "radio-*", "--json")
        results = json.loads(done.stdout)
        flash = [rig.rig.units[f"radio-{n}"].standin.flash for n in (1, 2, 3, 4)]
        again = wexicon("verify", "masts.toml", "radio-*").stdout
    assert [one["seat"] for one in results] == ["relay", "mast M1", "mast M2", "mast M3"]
    assert {one["verdict"] for one in results} == {"conforms"} and len({one["trace"] for one in results}) == 4
    assert [one["addr"] for one in flash] == [1, 11, 12, 13] and {one["peer"] for one in flash[1:]} == {1}
    assert flash[3]["name"] == "mast Old Ferry" and "4 of 4 conform" in again


def _without_tests() -> None:
    """The sheet without its tests, which need the modules at once."""
    Path("masts.toml").write_text(Path("masts.toml").read_text().partition("[test.")[0])


def test_on_one_port_the_modules_are_swapped_and_none_is_made_twice() -> None:
    _without_tests()
    with virtual(RADIOS) as rig:
        results = json.loads(wexicon("provision", "masts.toml", "radio-1", "--operator", "rig", "--json").stdout)
        assert len({one["identity"]["serial"] for one in results}) == 4
        assert {one["verdict"] for one in results} == {"conforms"}
        # A hand that leaves the old module in.
        rig.rig.units["radio-1"].standin.another = lambda: None  # type: ignore[method-assign]
        words = ("provision", "masts.toml", "radio-1", "--operator", "rig", "--patience", "2s", "--again", "--json")
        left_in = json.loads(wexicon(*words, status=1).stdout)
    assert left_in[0]["verdict"] == "conforms"
    assert "already done in this run" in left_in[1]["failure"]["what"] and left_in[1]["written"] == 0
    with virtual(RADIOS):
        # A person is asked with --json too.
        words = ("provision", "masts.toml", "radio-1", "--patience", "1s", "--json")
        asked = wexicon(*words, status=1)
        assert "Insert the module for mast M1" in asked.stderr and len(json.loads(asked.stdout)) == 4
    with virtual(RADIOS):
        # A module that was done in an earlier run, and is still there, is swapped first.
        Path("masts.csv").write_text("mast,station,address\nM7,Far Sands,0017\nM8,Long Reach,0018\n")
        words = ("provision", "masts.toml", "radio-1", "--operator", "rig", "--seat", "mast", "--json")
        later = json.loads(wexicon(*words).stdout)
        assert [one["verdict"] for one in later] == ["conforms"] * 2 and later[0]["identity"]["serial"] == "L9-00615"
    assert (
        "an operator must swap"
        in wexicon("provision", "masts.toml", "/dev/null", "--operator", "nobody", status=2).stderr
    )


def test_one_that_fails_stops_no_other_and_a_number_of_failures_stops_the_rest() -> None:
    with virtual(RADIOS) as rig:
        standin: Any = rig.rig.units["radio-4"].standin
        said = standin.say
        rig.call(lambda: setattr(standin, "say", lambda text: said(text.replace("LINDLE-L9", "OTHER"))))
        words = ("provision", "masts.toml", "radio-4", "radio-1", "radio-2", "radio-3")
        done = wexicon(*words, status=1)
        assert "3 of 4 conform, 1 failed" in done.stdout and "another module: its model is OTHER" in done.stderr
        stopped = wexicon("provision", "masts.toml", "radio-4", "--operator", "rig", "--stop-after", "1", status=1)
        assert "1 failed" in stopped.stdout and "3 skipped" in stopped.stdout


def test_units_that_need_each_others_address_are_asked_who_they_are_first() -> None:
    Path("pair.toml").write_text(PAIR)
    plugs = "".join(
        f'[unit.{name}]\nstandin = "tamsel-k5"\nidentity = {{ address = "02A15C00{tail}" }}\n'
        for name, tail in (("one", "13F7"), ("two", "218E"))
    )
    with virtual(plugs) as rig:
        words = ("provision", "pair.toml", "right=two", "left=one", "--operator", "rig")
        assert "2 of 2 conform" in wexicon(*words).stdout
        flash = {name: rig.rig.units[name].standin.flash for name in ("one", "two")}
        assert flash["one"]["label"] == "L-13F7" and flash["one"]["mate"] and flash["two"]["label"] == "right"
        assert "give each its own port" in wexicon("provision", "pair.toml", "one", status=2).stderr


def test_one_unit_of_many_is_named_by_its_row_and_dialogues_run_around_it() -> None:
    sheet = Path("masts.toml").read_text().replace('each     = "row"', 'each = "row"\nafterwards = ["check.wex"]')
    Path("masts.toml").write_text(sheet)
    Path("check.wex").write_text('needs station\n> @name?\n< @name {name}\ncheck name == "mast {station}"\n')
    with virtual(RADIOS):
        words = ("provision", "masts.toml", "--row", "M2")
        Path("check.wex").write_text("needs station\n> @name?\n< @name mast {=station}\n")
        assert "conforms: 5 changed" in wexicon(*words, "radio-2").stdout
        Path("check.wex").write_text("> @name?\n< @name nobody\n")
        failed = wexicon(*words, "radio-2", status=1)
        assert "check.wex" in failed.stderr and "mast Withy Point" in failed.stderr
        assert "did you mean M2" in wexicon("provision", "masts.toml", "--row", "M22", "radio-2", status=2).stderr


def test_a_sheet_of_many_units_is_rehearsed_with_no_port() -> None:
    told = wexicon("rehearse", "masts.toml", "--ports", "1", status=4).stdout
    assert "4 of 4 conform, 3 tests skipped" in told and "mast M3" in told and "rehearsed in" in told
    assert (
        "the operator, 3 times: Insert the module" in told and "on 1 port, 10.0 s assumed for each of 3 swaps" in told
    )
    rehearsal = json.loads(wexicon("rehearse", "masts.toml", "--json").stdout)
    results = rehearsal["units"]
    longest = max(one["seconds"] + sum(test["seconds"] for test in one["tests"]) for one in results)
    assert rehearsal["seconds"] == round(longest, 6) and rehearsal["swaps"] == 0
    assert len({one["identity"]["serial"] for one in results}) == 4
    after = {line["name"]: line["after"]["shown"] for line in results[3]["settings"]}
    assert (after["name"], after["address"], after["peer"]) == ("mast Old Ferry", "13", "1")
    Path("pair.toml").write_text(PAIR)
    assert "Say --ports 2" in wexicon("rehearse", "pair.toml", status=2).stderr
    assert "2 of 2 conform" in wexicon("rehearse", "pair.toml", "--ports", "2").stdout
    # Many are shared out to processes, and come back in order, each with its own number.
    rows = "".join(f"M{number},S{number},{number + 10}\n" for number in range(250))
    Path("masts.csv").write_text(f"mast,station,address\n{rows}")
    _without_tests()
    many = json.loads(wexicon("rehearse", "masts.toml", "--ports", "8", "--json").stdout)
    assert [one["seat"] for one in many["units"]] == ["relay", *(f"mast M{number}" for number in range(250))]
    assert len({one["identity"]["serial"] for one in many["units"]}) == 251
    assert {one["verdict"] for one in many["units"]} == {"conforms"}


def test_ports_that_appear_are_taken_as_they_come(tmp_path: Path) -> None:
    words = [sys.executable, "-m", "wexicon", "provision", "masts.toml", "--new-ports", "--operator", "nobody"]
    running = subprocess.Popen(words, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, env=clean({}))
    # It has begun when its units are in the register.
    while not (tmp_path / "state" / "runs").is_dir():
        assert running.poll() is None
        time.sleep(0.1)
    time.sleep(1)
    with bench(RADIOS) as rig:
        told, wrong = running.communicate(timeout=60)
        flash = [unit.standin.flash["addr"] for unit in rig.rig.units.values()]
    assert "4 of 4 conform" in told and sorted(flash) == [1, 11, 12, 13], told + wrong
    assert "no port is named" in wexicon("provision", "masts.toml", status=2).stderr


def test_hands_may_leave_a_unit_out_and_have_one_made_again() -> None:
    _without_tests()
    with bench(RADIOS) as rig:
        standin = rig.rig.units["radio-1"].standin
        one = Terminal("provision", "masts.toml", "radio-1")
        one.read("Insert the module for mast M1")
        one.type("agian\r")
        one.read("No row or unit is called agian.")
        rig.call(lambda: (standin.forget(), standin.restart()))
        one.type("again\r")
        one.read("Insert the module for mast M1", times=2)
        assert standin.flash["addr"] == 1
        one.type("skip\r")
        one.read("Insert the module for mast M2")
        rig.call(lambda: standin.operate("swap"))
        one.read("Insert the module for mast M3")
        rig.call(lambda: standin.operate("swap"))
        told = one.read("3 of 4 conform, 1 skipped")
        assert one.end() == 1 and "skipped on request" in told
    listed = json.loads(wexicon("units", "show", "relay", "--json").stdout)
    assert [entry["verdict"] for entry in listed] == ["conforms"] * 2


def test_a_scanned_line_chooses_the_row_or_the_unit() -> None:
    _without_tests()
    with bench(RADIOS) as rig:
        standin = rig.rig.units["radio-1"].standin
        one = Terminal("provision", "masts.toml", "radio-1", "--seat", "mast", "--scan")
        one.read("Insert a module, and scan its row or unit.")
        assert standin.flash["addr"] == 0
        one.type("M9\r")
        one.read("No row or unit is called M9.")
        one.type("M3\r")
        one.read("Insert a module, and scan its row or unit.", times=2)
        assert standin.flash["addr"] == 13
        one.type("M3\r")
        one.read("mast M3 is not open any more.")
        one.type("again\r")
        one.read("Insert a module, and scan its row or unit.", times=3)
        rig.call(lambda: standin.operate("swap"))
        one.type("mast M1\r")
        one.read("Insert a module, and scan its row or unit.", times=4)
        one.type("\x04")
        assert "2 of 2 conform" in one.read("2 of 2 conform") and one.end() == 0
    made = {one["name"]: one["unit"] for one in json.loads(wexicon("units", "list", "--json").stdout)}
    assert set(made) == {"mast M1", "mast M3"}
    # The identity on a label chooses too, from a pipe as well.
    with bench(RADIOS) as rig:
        scanned = f"{made['mast M3'].split()[-1]}\n"
        told = built("verify", "masts.toml", "radio-1", "--seat", "mast", "--scan", input=scanned, status=1)
        assert "mast M3" in told.stdout and "mast M1" not in told.stdout


def test_a_scan_that_ends_at_once_leaves_every_unit_out_and_its_tests_too() -> None:
    with bench(RADIOS) as rig:
        standin = rig.rig.units["radio-1"].standin
        built("provision", "masts.toml", "radio-1", "--scan", input="")
        assert standin.flash["addr"] == 0
    assert "--scan needs one port" in wexicon("provision", "masts.toml", "--new-ports", "--scan", status=2).stderr


def test_units_that_do_not_agree_are_recorded_as_failed() -> None:
    sheet = Path("masts.toml").read_text().replace("mast {row.station}", "mast {own.serial|first(2)}")
    Path("masts.toml").write_text(sheet)  # what it comes to is known only when the modules were read
    with virtual(RADIOS):
        wexicon("provision", "masts.toml", "radio-*", status=1)
    kept = json.loads(wexicon("units", "list", "--json").stdout)
    assert {one["verdict"] for one in kept if one["name"].startswith("mast")} == {"failed"}


def test_what_a_dialogue_measures_is_recorded_with_its_unit_and_fails_outside_its_limits() -> None:
    sheet = Path("masts.toml").read_text().replace('each     = "row"', 'each = "row"\nafterwards = ["check.wex"]')
    Path("masts.toml").write_text(sheet)
    asks = "> @addr?\n< @addr {a:int}\nmeasure address = a unit steps from 12"
    words = ("provision", "masts.toml", "--row", "M2", "radio-2", "--json")
    with virtual(RADIOS):
        Path("check.wex").write_text(f"{asks} to 12.5\n")
        made = json.loads(wexicon(*words).stdout)[0]
        assert [(one["value"], one["verdict"]) for one in made["measurements"]] == [(12.0, "passed")]
        shown = wexicon("units", "show", "mast M2").stdout
        assert "12 steps" in shown and "12 to 12.5" in shown
        Path("check.wex").write_text("> @addr?\n< @addr {a:int}\nmeasure address = a unit steps to 11\n")
        failed = wexicon(*words[:-1], status=1)
        assert "address is 12 steps: outside its limits" in failed.stderr
    kept = json.loads(wexicon("units", "show", "mast M2", "--json").stdout)[-1]
    assert kept["verdict"] == "failed" and kept["result"]["measurements"][0]["verdict"] == "failed"


def test_a_unit_called_like_a_setting_is_not_failed_by_its_name() -> None:
    _without_tests()
    sheet = Path("masts.toml").read_text().replace("mast {row.station}", "mast {own.serial|first(2)}")
    Path("masts.toml").write_text(
        sheet.replace("[seat.relay]", "[seat.address]").replace("relay.address", "address.address")
    )
    with virtual(RADIOS):
        made = json.loads(wexicon("provision", "masts.toml", "radio-*", "--json", status=1).stdout)
    assert {one["seat"]: one["verdict"] for one in made} == {
        "address": "conforms",
        "mast M1": "failed",
        "mast M2": "failed",
        "mast M3": "failed",
    }
