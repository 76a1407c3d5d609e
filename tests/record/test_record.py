"""Commands behave as recorded: some stories in `make test`, all of them in `make test-all`."""

from __future__ import annotations

from datetime import date

import pytest

from tests.record.recording import FACTS, Step, Story, differences, facts
from tests.record.stories import STORIES

# One family by lines, one by bytes and pins, one with a key to hold; and a part of what needs no module.
SAMPLE = ("family-lindle-l9", "family-lindle-r2", "family-tamsel-k6", "sample-imports", "wrong")


@pytest.mark.parametrize(
    "name", [pytest.param(name, marks=() if name in SAMPLE else pytest.mark.long) for name in STORIES]
)
def test_behaviour_is_as_recorded(name: str) -> None:
    assert not (told := differences(STORIES[name])), (
        "\n".join(told) + "\nIf this was intended: python -m tests.record, and a commit of its own with the reason."
    )


def test_each_file_of_the_record_has_its_story() -> None:
    assert {path.stem for path in FACTS.glob("*.txt")} == set(STORIES)


def test_every_kind_of_fact_is_observed() -> None:
    rig = '[unit.mast]\nstandin = "lindle-l9"\n'
    sheet = 'format = 1\n[seat.mast]\nlexicon = "lindle-l9"\nsettings = { name = "pier" }\n'
    steps = [
        Step(("set", "virtual://mast", "-l", "lindle-l9", "name=quay", "--json")),
        Step(("set", "virtual://mast", "-l", "lindle-l9", "network=99")),
        Step(("provision", "s.toml", "virtual://mast")),
        Step(("trace", "list")),
    ]
    told = facts(Story("x", steps, rig, lambda folder: (folder / "s.toml").write_text(sheet)))
    for one in (
        "status 0",
        "say    mast @name=quay\\n",
        "hear   mast @ok\\r\\n",
        "flash  mast name = 'quay'",
        'json   verdict = "conforms"',
        "status 2",
    ):
        assert one in told, one
    assert any(one.startswith("row    record unit=lindle-l9 L9-00417") and "bench=quay bench" in one for one in told)
    assert any(one.startswith("err    error: network: '99' is out of range") for one in told)
    assert any("<time>" in one for one in told) and not any(f"{date.today()}" in one for one in told)
