"""Firmware images: loaded, refused, cut off and recovered; what they changed is read; a sheet loads what it needs."""

from __future__ import annotations

import json
import shutil
import signal
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import pytest

from tests.conftest import SAMPLE, Bench, bench, clean, virtual, wexicon
from wexicon.rigs.standins.fennick_z4 import FOR_COORDINATORS, FOR_JOINERS, image_of
from wexicon.rigs.uart import WireFaults
from wexicon.work.function.actions import do_action
from wexicon.work.module.module import Module

QUAY = '[unit.quay]\nstandin = "fennick-z4"\n'
MESH = QUAY + '[unit.north]\nstandin = "fennick-z4"\n[unit.south]\nstandin = "fennick-z4"\n'
SHEET = (
    'format = 1\n[seat.quay]\nlexicon = "fennick-z4"\nsettings = { role = "coordinator", address = 1 }\n'
    'image = { file = "quay-coordinator.img", identity = { image = "2", firmware = "0C10" } }\n'
)


@pytest.fixture(autouse=True)
def _images(tmp_path: Path) -> None:
    for path in (*SAMPLE.glob("*.img"), SAMPLE / "mesh-made.wex"):
        shutil.copy(path, tmp_path)


def load(one: Bench, file: str, action: str = "load") -> Any:
    session = one.open()
    session.tune(one.standin.uart.tuning)
    return do_action(Module(session, one.lexicon, one.operator), action, {"image": str(Path(file).absolute())})


def test_an_image_is_loaded_and_what_it_changed_is_read_and_told() -> None:
    one = Bench("fennick-z4")
    made = load(one, "quay-coordinator.img")
    assert made.verdict == "done" and made.identity["image"] == "2" and one.standin.flash["image"] == FOR_COORDINATORS
    told = "loaded: firmware 0B31 before, 0C10 now, image 0 before, 2 now, role joiner before, coordinator now"
    assert made.remarks == ["restart observed", told]
    again = load(one, "quay-coordinator.img")
    assert again.verdict == "unproved" and "its identity is as before" in again.remarks[-1]
    # Its role is the image's now.
    assert load(one, "buoy-joiner.img").identity["image"] == str(FOR_JOINERS)


def test_where_no_restart_was_observed_only_another_identity_shows_that_the_image_runs(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.setattr("wexicon.work.function.actions.come_back", lambda module, since: False)
    one = Bench("fennick-z4")
    assert load(one, "quay-coordinator.img").verdict == "done"
    again = load(one, "quay-coordinator.img")
    assert again.verdict == "unproved" and "no restart observed" in again.remarks


@pytest.mark.parametrize(
    "damage", [lambda data: data[:500], lambda data: b"XZ4I" + data[4:], lambda data: data[:-1] + b"x"]
)
def test_a_wrong_image_is_refused_and_the_module_can_be_recovered(damage: Any) -> None:
    Path("bad.img").write_bytes(damage(Path("quay-coordinator.img").read_bytes()))
    one = Bench("fennick-z4")
    failed = load(one, "bad.img")
    assert failed.verdict == "failed" and "the module refused the image" in failed.failure.what
    # It has no image now, and waits in its boot loader; power makes no difference.
    assert one.standin.flash["image"] == -1
    one.standin.cycle()
    one.agenda.run_until(one.agenda.now + 3)
    recovered = load(one, "buoy-joiner.img", "recover")
    assert recovered.verdict == "done" and recovered.identity["image"] == str(FOR_JOINERS)
    assert "what the settings were before is not known" in recovered.remarks[-1]


@pytest.mark.parametrize("after", [200, 900, 1_400, 2_500, 3_100])
def test_power_that_fails_in_the_middle_is_a_clear_failure_and_can_be_recovered(after: int) -> None:
    one = Bench("fennick-z4", faults=WireFaults(cut_after=after))
    failed = load(one, "quay-coordinator.img")
    assert failed.verdict == "failed" and "was sent 10 times and not acknowledged" in failed.failure.what
    before = one.standin.flash["image"]
    recovered = load(one, "quay-coordinator.img", "recover" if before < 0 else "load")
    assert recovered.verdict == "done" and one.standin.flash["image"] == FOR_COORDINATORS


def test_a_pin_that_is_held_at_power_up_starts_the_boot_loader() -> None:
    one = Bench("fennick-z4")
    one.standin.set_pin("boot", True)
    one.standin.cycle()
    one.agenda.run_until(one.agenda.now + 2)
    # It has its image still, and gets another one.
    one.standin.set_pin("boot", False)
    assert one.standin.mode == "loader" and load(one, "buoy-joiner.img", "recover").verdict == "done"  # type: ignore[attr-defined]


def test_a_noisy_wire_loads_it_whole_or_says_why() -> None:
    for seed in range(6):
        one = Bench("fennick-z4", faults=WireFaults(noise=3e-4, seed=seed))
        made = load(one, "quay-coordinator.img")
        if made.verdict == "done":
            assert one.standin.flash["image"] == FOR_COORDINATORS
        else:
            assert made.failure and made.failure.what


def test_a_sheet_loads_an_image_only_where_another_one_is_found() -> None:
    Path("s.toml").write_text(SHEET)
    with virtual(QUAY) as rig:
        words = ("s.toml", rig.ports["quay"], "--operator", "rig", "--json")
        planned = json.loads(wexicon("provision", *words, "--plan").stdout)
        told = planned if isinstance(planned, dict) else planned[0]
        assert "quay-coordinator.img would be loaded first: image is 0, and 2 is wanted" in str(told)
        assert rig.rig.units["quay"].standin.flash["image"] == 0
        assert "another firmware image is there: image is 0" in wexicon("verify", *words[:-1], status=1).stderr
        made = json.loads(wexicon("provision", *words).stdout)
        assert made["verdict"] == "conforms" and made["identity"]["image"] == "2"
        assert "quay-coordinator.img loaded: before, image is 0, and 2 is wanted" in str(made["remarks"])
        again = json.loads(wexicon("provision", *words).stdout)
        assert again["verdict"] == "conforms" and again["written"] == 0 and "loaded" not in str(again["remarks"])
        assert wexicon("verify", *words[:-1]).stdout
        flash = rig.rig.units["quay"].standin.flash
        assert (flash["image"], flash["RO"], flash["OA"]) == (FOR_COORDINATORS, 3, 1)
    assert not list(Path("state/unfinished").glob("*.json"))
    rehearsed = json.loads(wexicon("rehearse", "s.toml", "--json").stdout)
    assert rehearsed[0]["verdict"] == "conforms"


def test_an_image_that_is_not_what_the_sheet_says_is_no_success() -> None:
    Path("quay-coordinator.img").write_bytes(image_of(FOR_JOINERS, 0x0C10, b"another one"))
    Path("s.toml").write_text(SHEET)
    told = wexicon("rehearse", "s.toml", status=1)
    assert "was loaded, and still image is 1, and 2 is wanted" in told.stdout + told.stderr


@pytest.mark.parametrize(
    ("old", "new", "told"),
    [
        ("quay-coordinator.img", "quay.img", "quay.img: cannot be read"),
        ("quay-coordinator.img", "../x.img", "is outside the sheet's folder"),
        ("firmware =", "firmwear =", "did you mean firmware"),
        ('{ image = "2", firmware = "0C10" }', "{}", "is empty: when is another image found?"),
        ('"fennick-z4"\nsettings = { role = "coordinator", address = 1 }', '"lindle-l9"\nsettings = { address = 1 }',
         "has no action that loads an image"),
    ],
)  # fmt: skip
def test_a_sheet_whose_image_cannot_be_loaded_says_so_before_anything_is_sent(old: str, new: str, told: str) -> None:
    Path("s.toml").write_text(SHEET.replace(old, new))
    assert told in wexicon("rehearse", "s.toml", status=2).stderr


def test_a_mesh_of_three_whose_coordinator_is_made_by_loading_an_image() -> None:
    Path("r.toml").write_text("format = 1\n" + MESH)
    assert json.loads(wexicon("rehearse", "mesh-made.wex", "--rig", "r.toml", "--json").stdout)["verdict"] == "passed"
    # A dialogue reads files of its own folder only, unless the call names them.
    Path("mesh-made.wex").write_text(Path("mesh-made.wex").read_text().replace('"quay-', '"../quay-'))
    assert "outside" in wexicon("rehearse", "mesh-made.wex", "--rig", "r.toml", status=2).stderr
    wexicon("rehearse", "mesh-made.wex", "--rig", "r.toml", "image=quay-coordinator.img")


@pytest.mark.long
def test_the_same_on_ports() -> None:
    with bench(MESH) as rig:
        ports = [f"{name}={rig.ports[name]}" for name in ("quay", "north", "south")]
        wexicon("run", "mesh-made.wex", *ports, "--operator", "rig", "--trace", "t.jsonl")
        assert rig.rig.units["quay"].standin.flash["image"] == FOR_COORDINATORS
    assert "2048 of 2915 bytes acknowledged" in wexicon("trace", "show", "t.jsonl").stdout


@pytest.mark.long
@pytest.mark.parametrize("how", [signal.SIGKILL, signal.SIGINT])
def test_a_load_that_is_killed_or_stopped_in_the_middle_is_begun_again(how: signal.Signals) -> None:
    Path("big.img").write_bytes(image_of(FOR_COORDINATORS, 0x0C10, bytes(range(256)) * 400))
    with bench(QUAY) as rig:
        standin: Any = rig.rig.units["quay"].standin
        words = [sys.executable, "-m", "wexicon", "do", rig.ports["quay"], "load", "image=big.img", "-l", "fennick-z4"]
        running = subprocess.Popen(words, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True, env=clean({}))
        until = time.monotonic() + 60
        while time.monotonic() < until and not len(getattr(standin, "taken", b"")) > 20_000:
            time.sleep(0.05)
        running.send_signal(how)
        told = running.communicate(timeout=30)[1]
        assert running.returncode == (130 if how is signal.SIGINT else -how), told
        # It has no image that is whole, and may wait for the rest still.
        assert standin.flash["image"] == -1
        wexicon("do", rig.ports["quay"], "recover", "image=big.img", "-l", "fennick-z4")
        assert standin.flash["image"] == FOR_COORDINATORS
