"""What a restart does and how long a save takes is tried on a module, told, and undone."""

from __future__ import annotations

import copy
import json
from pathlib import Path
from typing import Any

from tests.conftest import Bench, virtual, wexicon
from wexicon.core.results.unit import StartTrial
from wexicon.files import shipped_folder
from wexicon.work.drafting.start_trial import try_starts


def tried(one: Bench) -> StartTrial:
    one.agenda.run_until(one.agenda.now + 3)
    before = copy.deepcopy(one.standin.flash)
    result = try_starts(one.module(), one.store)
    assert one.standin.flash == before and one.store._kept == {}, result
    return result


def test_a_restart_that_loads_the_saved_values_is_told_by_its_effects() -> None:
    result = tried(Bench("brisca-w1", person=True))
    assert (result.verdict, result.signs, result.reloads, result.saves_within) == ("done", ["ready text"], True, 0.0)
    assert result.lines == ["[start]", 'witness = "power"', "restart_reloads = true"]
    assert result.back_after and 0.3 < result.back_after < 2


def test_a_change_that_was_not_taken_tells_nothing_of_a_restart() -> None:
    one = Bench("brisca-w1", person=True)
    heard = one.standin.heard

    def ignoring(data: bytes, began: float) -> None:
        before = one.standin.memory["power"]
        heard(data, began)
        one.standin.memory["power"] = before

    one.standin.heard = ignoring  # type: ignore[method-assign]
    result = tried(one)
    assert result.reloads is None and result.lines == []
    assert "power was acknowledged and not taken: what a restart does to it cannot be seen" in result.remarks


def test_a_save_that_takes_its_time_is_measured() -> None:
    one = Bench("lindle-l9", person=True)
    keep = one.standin.keep
    one.standin.keep = lambda: one.standin.after(1.4, keep)  # type: ignore[method-assign]
    result = tried(one)
    assert result.saves_within == 2.0 and 'saves_within = "2.0s"' in result.lines


def test_a_restart_that_keeps_working_memory_is_told() -> None:
    one = Bench("brisca-w1", person=True)
    start = one.standin.start

    def warm() -> None:
        kept: dict[str, Any] = dict(one.standin.memory)
        start()
        one.standin.memory = kept

    one.standin.start = warm  # type: ignore[method-assign]
    result = tried(one)
    assert (result.reloads, result.saves_within, result.lines) == (False, None, [])


def test_the_command_changes_a_module_only_if_that_is_allowed() -> None:
    lexicon = str(shipped_folder() / "brisca-w1.toml")
    with virtual('[unit.screen]\nstandin = "brisca-w1"\n') as rig:
        assert "allow it with --write" in wexicon("lexicon", "check", lexicon, "screen", "--prove", status=2).stderr
        told = wexicon("lexicon", "check", lexicon, "screen", "--prove", "--write").stdout
        result = json.loads(wexicon("lexicon", "check", lexicon, "screen", "--prove", "--write", "--json").stdout)
        assert rig.rig.units["screen"].standin.flash["power"] == 20
    assert "an unsaved change of power was gone: it loads the saved values" in told and "restart_reloads = true" in told
    assert result["verdict"] == "done" and result["restored"] and Path(result["trace"]).is_file()


def test_what_a_power_cycle_does_is_not_told_of_a_restart() -> None:
    result = tried(Bench("tamsel-k5"))
    assert result.verdict == "failed" and result.failure and "cannot be tried" in result.failure.what
    assert (result.reloads, result.signs, result.lines) == (None, [], [])
