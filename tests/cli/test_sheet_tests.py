"""Tests in sheets: run when the units they need conform, on ports and rehearsed; what they wrote is put back and read again."""

from __future__ import annotations

import json
import shutil
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import SAMPLE, bench, k5, killed, virtual, wexicon
from wexicon.core.dialogue import read_dialogue
from wexicon.core.results.unit import UnitResult
from wexicon.rigs.serving import RigOperator, Server
from wexicon.work.contact.catalog import find_lexicon
from wexicon.work.fleet.scheduler import UnitProgress
from wexicon.work.fleet.sheet_tests import writes

RADIOS = '[unit.mast]\nstandin = "lindle-l9"\n[unit.relay]\nstandin = "lindle-l9"\n'
PAIR = k5() + '[unit.handset]\nstandin = "tamsel-k6"\n'
DIALOGUE = 'dialogue = "mast-heard.wex"\nparties  = { mast = "mast", relay = "relay" }'
HEARD = """format = 1
[seat.relay]
lexicon  = "lindle-l9"
settings = { name = "relay", address = 1 }
[seat.mast]
lexicon  = "lindle-l9"
settings = { name = "mast", address = 2 }
[test.heard]
dialogue = "mast-heard.wex"
parties  = { mast = "mast", relay = "relay" }
"""
JOINED = """format = 1
[seat.plug]
lexicon  = "tamsel-k5"
settings = { name = "Withy Point", role = "follower" }
side_effects = ["pin"]
[seat.handset]
lexicon  = "tamsel-k6"
settings = { name = "Withy handset" }
[test.joined]
dialogue = "plug-joined.wex"
parties  = { plug = "plug", handset = "handset" }
given    = { pin = "5050", peer = "{handset.address}" }
"""


@pytest.fixture(autouse=True)
def _samples(tmp_path: Path) -> None:
    for path in SAMPLE.glob("*.wex"):
        shutil.copy(path, tmp_path)


def results(*words: str, status: int = 0) -> dict[str, dict[str, object]]:
    made = json.loads(wexicon(*words, "--json", status=status).stdout)
    return {one["seat"]: one for one in (made["units"] if isinstance(made, dict) and "units" in made else made)}


def outcome_of(unit: dict[str, object], name: str) -> dict[str, object]:
    return next(one for one in unit["tests"] if one["name"] == name)  # type: ignore[attr-defined]


def test_a_test_between_two_units_is_run_recorded_and_run_again_by_verify() -> None:
    Path("s.toml").write_text(HEARD)
    with virtual(RADIOS) as rig:
        ports = (f"relay={rig.ports['relay']}", f"mast={rig.ports['mast']}", "--operator", "rig")
        made = results("provision", "s.toml", *ports)
        heard = outcome_of(made["mast"], "heard")
        assert heard["verdict"] == "passed" and heard["parties"] == {"mast": "mast", "relay": "relay"}
        assert {one["name"] for one in heard["measurements"]} == {"signal", "travel"}  # type: ignore[attr-defined]
        assert made["mast"]["verdict"] == "conforms" and not made["relay"]["tests"] and not heard["wrote"]
        shown = wexicon("units", "show", "mast").stdout
        assert "heard" in shown and "passed" in shown
        told = wexicon("verify", "s.toml", *ports)
        assert "1 test passed" in told.stdout and "nothing written" in told.stdout
        assert "mast: conforms\n" in told.stderr and "mast: 1 test passed" in told.stderr
        # What fails leaves the verdict of the settings as it was, and is not taken for done.
        rig.rig.units["relay"].standin.flash["net"] = 9
        rig.call(rig.rig.units["relay"].standin.restart)
        failed = results("verify", "s.toml", *ports, status=1)
        assert failed["mast"]["verdict"] == "conforms" and outcome_of(failed["mast"], "heard")["verdict"] == "failed"
        told = wexicon("provision", "s.toml", *ports, status=1)
        assert "test heard of mast failed" in told.stderr and "2 of 2 conform, 1 test failed" in told.stdout
        again = ("provision", "s.toml", *rig.ports.values(), "--operator", "rig", "--resume", "--tests", "none")
        assert "1 already done; 1 to do" in wexicon(*again).stderr


def test_it_is_rehearsed_with_its_time_and_needs_its_units_at_once() -> None:
    Path("s.toml").write_text(HEARD)
    made = results("rehearse", "s.toml")
    assert outcome_of(made["mast"], "heard")["verdict"] == "passed"
    assert "test heard" in wexicon("rehearse", "s.toml").stdout
    alone = wexicon("rehearse", "s.toml", "--ports", "1", status=4)
    assert "test heard of mast skipped: the module of mast was taken from its port" in alone.stderr
    # Where the radios are in different networks nothing is heard, and the test says so.
    Path("s.toml").write_text(HEARD.replace("address = 2", "address = 2, network = 7"))
    failed = wexicon("rehearse", "s.toml", status=1)
    assert (
        "test heard of mast failed, line 13 at relay: await 5s" in failed.stderr and "2 of 2 conform" in failed.stdout
    )


def test_what_a_test_wrote_is_put_back_and_proved_again() -> None:
    Path("s.toml").write_text(JOINED)
    with virtual(PAIR) as rig:
        ports = (f"plug={rig.ports['plug']}", f"handset={rig.ports['handset']}", "--operator", "rig")
        made = results("provision", "s.toml", *ports)
        joined, plug = outcome_of(made["plug"], "joined"), made["plug"]
        assert joined["verdict"] == "passed" and joined["wrote"]
        assert "test joined changed role; written back and read again" in plug["remarks"]
        assert plug["verdict"] == "conforms" and plug["evidence"] == "power-cycle"
        assert rig.rig.units["plug"].standin.flash["part"] == "F"
        assert not list((Path("state") / "unfinished").glob("*.json"))
        # `verify` writes nothing unless it is asked to.
        assert not results("verify", "s.toml", *ports)["plug"]["tests"]
    rehearsed = results("rehearse", "s.toml")
    assert outcome_of(rehearsed["plug"], "joined")["verdict"] == "passed"
    assert "test joined changed role; written back and read again" in rehearsed["plug"]["remarks"]  # type: ignore[operator]


def test_stopped_in_the_middle_of_a_test_that_wrote_the_unit_is_unfinished_and_the_next_run_finishes_it() -> None:
    Path("s.toml").write_text(JOINED)
    with virtual(PAIR) as rig:
        ports = (f"plug={rig.ports['plug']}", f"handset={rig.ports['handset']}", "--operator", "rig")
        standin = rig.rig.units["plug"].standin
        killed(rig, lambda: standin.flash["part"] == "L", "provision", "s.toml", *ports)
        assert "unfinished: tamsel-k5" in wexicon("units", "list").stdout
        told = wexicon("provision", "s.toml", *ports)
        assert "2 of 2 conform, 1 test passed" in told.stdout and "plug: resuming work started on" in told.stdout
        assert standin.flash["part"] == "F"


def test_each_row_is_tested_with_what_its_row_says(tmp_path: Path) -> None:
    Path("masts.csv").write_text("key,reading\nM1,tide 1.1 m\nM2,tide 2.2 m\n")
    Path("s.toml").write_text(
        HEARD.replace("format = 1\n", 'format = 1\nunits = "masts.csv"\n')
        .replace('settings = { name = "mast", address = 2 }', 'each = "row"\nsettings = { name = "{row.key}" }')
        .replace('relay = "relay" }', 'relay = "relay" }\ngiven = { reading = "{row.key}: {row.reading}" }')
    )
    Path("mast-heard.wex").write_text(Path("mast-heard.wex").read_text() + "keep heard\n")
    made = results("rehearse", "s.toml")
    for key, reading in (("M1", "1.1"), ("M2", "2.2")):
        assert outcome_of(made[f"mast {key}"], "heard")["kept"] == {"heard": f"{key}: tide {reading} m"}


@pytest.mark.parametrize(
    ("line", "expected"),
    [
        ("> AT+WHO?", False), ("> AT+LABEL?", False), ("read name", False), ("do restart", False), ("pause 1s", False),
        ("> AT+LABEL=x", True), (">> at + label=x\\r\\n", True), ('set name = "x"', True), ("do save", True),
        ("> AT+KEEP", True),
        ("do factory-reset", True), ("> AT+FRESH", True), ("when 1 == 1\n    > AT+PASS=1234", True),
        ("on K5 NO MATE\n    do save", True),
    ],
)  # fmt: skip
def test_what_may_write_is_known_before_it_is_run(line: str, expected: bool) -> None:
    lexicon = find_lexicon("tamsel-k5")
    assert writes(read_dialogue(line + "\n", "d.wex"), "", lexicon) is expected
    indented = "".join(f"    {one}\n" for one in line.split("\n"))
    program = read_dialogue(f"party a = tamsel-k5\nparty b = tamsel-k5\nat a\n{indented}", "d.wex")
    assert writes(program, "a", lexicon) is expected and not writes(program, "b", lexicon)


def run_with(rig: Server, text: str, at_test: Callable[[], object], **setup: Any) -> dict[str, UnitResult]:
    """Provisions a sheet; `at_test` is called as its test begins."""
    from wexicon import api
    from wexicon.work.contact.catalog import secrets_for

    Path("s.toml").write_text(text)
    sheet = api.find_sheet(Path("s.toml"), None, secrets_for(Path(), None, ()))

    def progress(told: UnitProgress) -> None:
        if told.step.startswith("test "):
            at_test()

    own = api.Setup(operator=lambda port: RigOperator(rig, next(n for n, p in rig.ports.items() if p == port)), **setup)
    ports = [f"{name}={port}" for name, port in rig.ports.items()]
    made = api.provision(sheet, ports, None, own, report=api.Report(progress=progress))
    return {one.seat: one for one in made}


@pytest.mark.parametrize(("sheet", "rig_", "owner"), [(HEARD, RADIOS, "mast"), (JOINED, PAIR, "plug")])
def test_another_module_on_the_port_passes_no_test_and_is_not_written_to(sheet: str, rig_: str, owner: str) -> None:
    with virtual(rig_) as rig:
        standin = rig.rig.units[owner].standin
        left: list[dict[str, object]] = []

        def swap() -> None:
            if not left:
                standin.another(5)
                left.append(dict(standin.flash))

        made = run_with(rig, sheet, swap)[owner]
        assert made.tests[0].verdict == "failed" and made.tests[0].failure
        assert "another module answers" in made.tests[0].failure.what and standin.flash == left[0]
        if made.tests[0].wrote:
            assert made.verdict == "failed" and {line.outcome for line in made.settings} == {"not read"}


def test_a_test_that_writes_and_is_stopped_leaves_its_unit_unfinished() -> None:
    stop: list[object] = []
    with bench(PAIR) as rig:
        made = run_with(
            rig, JOINED, lambda: threading.Timer(1.0, stop.append, [1]).start(), stopping=lambda: bool(stop)
        )
        plug = made["plug"]
        assert plug.tests[0].verdict == "stopped" and plug.verdict == "stopped" and not plug.evidence
        assert plug.failure and "before the settings were put back" in plug.failure.what and plug.status == 130
        told = wexicon("provision", "s.toml", *rig.ports.values(), "--operator", "rig", "--resume")
        assert "1 already done; 1 to do" in told.stderr and rig.rig.units["plug"].standin.flash["part"] == "F"


def test_stopped_before_its_tests_a_run_says_so(tmp_path: Path) -> None:
    from wexicon import api
    from wexicon.work.contact.catalog import secrets_for

    Path("s.toml").write_text(HEARD)
    with virtual(RADIOS) as rig:
        done: list[object] = []
        sheet = api.find_sheet(Path("s.toml"), None, secrets_for(tmp_path, None, ()))
        report = api.Report(progress=lambda progress: done.append(progress) if progress.result else None)
        setup = api.Setup(stopping=lambda: len(done) >= 2)
        made = api.provision(
            sheet, [f"{name}={rig.ports[name]}" for name in ("relay", "mast")], None, setup, report=report
        )
    assert [one.verdict for one in made] == ["conforms"] * 2 and made[1].tests[0].verdict == "stopped"
    assert made[1].status == 130


def test_a_test_of_one_unit_runs_while_its_module_is_there() -> None:
    Path("who.wex").write_text('> @who?\n< @who {model} ...\ncheck model == "LINDLE-L9"\n')
    sheet = HEARD.partition("[test")[0] + '[test.known]\ndialogue = "who.wex"\nseat = "mast"\n'
    Path("s.toml").write_text(sheet)
    with virtual('[unit.one]\nstandin = "lindle-l9"\n') as rig:
        made = results("provision", "s.toml", rig.ports["one"], "--operator", "rig")
        assert outcome_of(made["mast"], "known")["verdict"] == "passed"
        alone = results("verify", "s.toml", rig.ports["one"], "--seat", "mast")
        assert outcome_of(alone["mast"], "known")["verdict"] == "passed"


def test_packets_between_two_units_are_judged_by_the_limits_of_the_sheet() -> None:
    sheet = (
        HEARD.partition("[test")[0]
        .replace("address = 1 }", "address = 1, peer = 2, spreading = 7 }")
        .replace("2 }\n", "2, peer = 1, spreading = 7 }\n")
    )
    ways = 'traffic = { from = "mast", to = "relay", count = 1, within = "1s", '
    Path("s.toml").write_text(
        f'{sheet}[test.near]\n{ways}round_trip = {{ max = "1s" }} }}\n'
        f'[test.fast]\n{ways}round_trip = {{ max = "100ms" }} }}\n'
        f'[test.loose]\n{ways}lost = {{ max = 100, unit = "%" }} }}\n'
        f'[test.timed]\n{ways}lost = {{ max = 2 }}, round_trip = {{ max = "9s" }} }}\n'
    )
    with virtual(RADIOS) as rig:
        ports = (f"relay={rig.ports['relay']}", f"mast={rig.ports['mast']}", "--operator", "rig")
        made = results("provision", "s.toml", *ports, status=1)["mast"]
        assert [outcome_of(made, name)["verdict"] for name in ("near", "fast", "loose")] == [
            "passed",
            "failed",
            "passed",
        ]
        assert outcome_of(made, "near")["measurements"][0] == {  # type: ignore[index]
            "name": "lost", "value": 0.0, "unit": "", "low": None, "high": 0.0, "verdict": "passed",
        }  # fmt: skip
        assert "and at most 100 is allowed" in str(outcome_of(made, "fast")["failure"])
        # Nothing comes back: all is lost, whatever may be.
        rig.rig.units["relay"].standin.reaches = lambda other: False  # type: ignore[method-assign]
        lost = results("verify", "s.toml", *ports, status=1)["mast"]
        assert outcome_of(lost, "near")["verdict"] == "failed" and outcome_of(lost, "fast")["verdict"] == "failed"
        assert outcome_of(lost, "loose")["measurements"][0]["value"] == 100.0  # type: ignore[index]
        # Nothing came back in time, as nothing came back.
        assert outcome_of(lost, "timed")["failure"]["what"] == "no packet was answered"  # type: ignore[index]
    rehearsed = results("rehearse", "s.toml", status=1)["mast"]
    assert [outcome_of(rehearsed, name)["verdict"] for name in ("near", "fast", "timed")] == [
        "passed",
        "failed",
        "passed",
    ]


def test_a_sweep_of_a_sheet_puts_the_settings_back_and_repeats_the_evidence() -> None:
    Path("s.toml").write_text(
        HEARD.partition("[test")[0]
        + '[test.range]\ntraffic = { from = "mast", to = "relay", count = 1, within = "5s" }\n'
        + "sweep = { spreading = [7, 12], power = [2] }\n"
    )
    with virtual(RADIOS) as rig:
        ports = (f"relay={rig.ports['relay']}", f"mast={rig.ports['mast']}", "--operator", "rig")
        found = results("provision", "s.toml", *ports)
        lost = {one["name"]: one["value"] for one in outcome_of(found["mast"], "range")["measurements"]}  # type: ignore[attr-defined]
        assert lost["lost at spreading 7, power 2 dBm"] == lost["lost at spreading 12, power 2 dBm"] == 0
        assert all(found[name]["evidence"] == "power-cycle" and found[name]["starts"] for name in ("mast", "relay"))
        for name in ("mast", "relay"):
            standin = rig.rig.units[name].standin
            assert standin.flash["radio"] == standin.memory["radio"] == (868100000, 9, 4, 14)
        assert not list(Path("state/unfinished").glob("*.json"))
        # It writes: `verify` leaves it out unless it is asked for.
        assert results("verify", "s.toml", *ports)["mast"].get("tests", []) == []
    again = results("rehearse", "s.toml")["mast"]
    assert outcome_of(again, "range")["verdict"] == "passed"
    Path("r.toml").write_text(
        "format = 1\n" + RADIOS + "[air]\nexponent = 3.2\n[air.place.mast]\n[air.place.relay]\neast = 1.4\n"
    )
    far = outcome_of(results("rehearse", "s.toml", "--rig", "r.toml", status=1)["mast"], "range")
    values = {one["name"]: one["value"] for one in far["measurements"]}  # type: ignore[attr-defined]
    assert values["lost at spreading 7, power 2 dBm"] == 2 and "at spreading 7" in str(far["failure"])


@pytest.mark.parametrize(
    ("change", "told"),
    [
        ((DIALOGUE, DIALOGUE + "\nsweep = { power = [2] }"), "only traffic is swept"),
        ((DIALOGUE, 'traffic = { from = "mast", to = "relay" }\nsweep = { power = [99] }'), "power: 99 is out of range"),
        ((DIALOGUE, 'traffic = { from = "mast", to = "mast" }'),
         "from and to are the same seat"),
        ((DIALOGUE, 'traffic = { from = "mist", to = "mast" }'),
         "there is no seat mist"),
        (('dialogue = "mast-heard.wex"', 'dialogue = "mast-heard.wex"\ntraffic = { from = "mast", to = "relay" }'),
         "has either a dialogue or traffic"),
        (('"mast-heard.wex"', '"mast-herd.wex"'), "cannot be read"),
        (('mast = "mast", ', ""), "no seat for mast"),
        (('mast = "mast"', 'mast = "mist"'), "there is no seat mist"),
        (('mast = "mast"', 'moast = "mast"'), "has no party moast"),
        (('parties  = { mast = "mast", relay = "relay" }', 'seat = "mast"'), "no seat for mast"),
        (('relay = "relay" }', 'relay = "relay" }\ngiven = { rading = "x" }'), "does not need it"),
        (('"lindle-l9"\nsettings = { name = "mast", address = 2 }', '"tamsel-k5"\nsettings = { name = "a" }'),
         "mast speaks lindle-l9, and the seat mast has tamsel-k5"),
        (("[test.heard]", "[test.heard]\ntrafic = 1"), "test.trafic: no such key"),
    ],
)  # fmt: skip
def test_what_is_wrong_with_a_test_is_told_when_the_sheet_is_read(change: tuple[str, str], told: str) -> None:
    Path("s.toml").write_text(HEARD.replace(*change))
    assert told in wexicon("rehearse", "s.toml", status=2).stderr


def test_what_a_test_leaves_changed_beside_is_a_side_effect() -> None:
    Path("named.wex").write_text("party mast = lindle-l9\nat mast\n    > @name=slip\n    > @net=9\n    > @save\n")
    Path("s.toml").write_text(
        'format = 1\n[seat.mast]\nlexicon = "lindle-l9"\nsettings = { name = "mast" }\n'
        '[test.named]\ndialogue = "named.wex"\nparties = { mast = "mast" }\n'
    )
    with virtual(RADIOS) as rig:
        made = json.loads(wexicon("provision", "s.toml", "mast", "--operator", "rig", "--json", status=4).stdout)
        outcomes = {one["name"]: one["outcome"] for one in made["settings"]}
        assert outcomes == {"name": "changed", "network": "side effect"}
        assert made["verdict"] == "unproved" and rig.rig.units["mast"].standin.flash["name"] == "mast"
    allowed = Path("s.toml").read_text().replace("[test.named]", 'side_effects = ["network"]\n[test.named]')
    Path("s.toml").write_text(allowed)
    with virtual(RADIOS):
        made = json.loads(wexicon("provision", "s.toml", "mast", "--operator", "rig", "--json").stdout)
        assert {one["name"]: one["outcome"] for one in made["settings"]}["network"] == "allowed side effect"
