"""Results as data: they fit the schema that `wexicon schema` prints, and nothing in them can move a cursor."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any
from unicodedata import category

import jsonschema
import pytest
from benchmarks.floor import together
from benchmarks.wanted import TRUST, WANTED

from tests.conftest import Bench, virtual, wexicon
from wexicon.cli.printing import print_verdict
from wexicon.core.faults import ModuleFault, Part, Unreachable
from wexicon.core.results.result import Failure, Outcome, Verdict
from wexicon.core.results.unit import SettingResult, UnitResult
from wexicon.core.text import visible
from wexicon.records.schemas import TITLES, schema_of


def closed(schema: Any) -> Any:
    """The schema with no keys allowed but those that it names."""
    if isinstance(schema, list):
        return [closed(one) for one in schema]
    if not isinstance(schema, dict):
        return schema
    made = {name: closed(one) for name, one in schema.items()}
    return made | {"additionalProperties": False} if "properties" in made else made


def fits(data: Any, schema: dict[str, Any]) -> None:
    jsonschema.Draft202012Validator(closed(schema)).validate(data)


def test_what_commands_print_as_json_is_as_the_schema_says() -> None:
    Path("s.toml").write_text(
        'format = 1\n[seat.m]\nlexicon = "lindle-l9"\nsettings = { address = 4, frequency = 868.3 }\n'
    )
    Path("d.wex").write_text("> @addr?\n< @addr {a:int}\nkeep a\n")
    result, dialogue = schema_of("result"), schema_of("dialogue")
    with virtual('[unit.x]\nstandin = "lindle-l9"\n[unit.off]\nstandin = "lindle-l9"\npowered = false\n') as rig:
        port = rig.ports["x"]
        for words, status in (
            (("verify", "s.toml", port), 1),
            (("provision", "s.toml", port, "--operator", "rig"), 0),
            (("readout", port, "-l", "lindle-l9"), 0),
        ):
            told = json.loads(wexicon(*words, "--json", status=status).stdout)
            fits(told, result)
            assert told["started"].endswith("Z") and told["seconds"] > 0 and told["trace"]
        fits(json.loads(wexicon("run", "d.wex", port, "-l", "lindle-l9", "--json").stdout), dialogue)
    fits(json.loads(wexicon("rehearse", "s.toml", "--json").stdout)[0], result)
    with pytest.raises(jsonschema.ValidationError, match="colour"):
        fits({**told, "colour": 1}, result)
    with pytest.raises(jsonschema.ValidationError, match="integer"):
        fits({**told, "written": "two"}, result)


@pytest.mark.parametrize("kind", TITLES)
def test_each_schema_has_a_title_and_describes_its_parts(kind: str) -> None:
    schema = schema_of(kind)
    assert schema["title"].startswith("Wexicon: ") and schema["$defs"]
    for name, part in schema["$defs"].items():
        if part.get("type") == "object":
            text = str(part.get("description", ""))
            assert text.rstrip().endswith((".", ")", '"')), f"{name}: {text[-60:]!r} stops in the middle"


@pytest.mark.parametrize("name", WANTED)
def test_steps_tell_where_the_time_went(name: str) -> None:
    result = Bench(name).provision(**WANTED[name], trust=TRUST.get(name, ()))
    steps = [step.step for step in result.steps]
    assert steps[:3] == ["attention", "identify", "read"] and steps[-1] == "leave" and "power cycle" in steps
    assert sum(step.seconds for step in result.steps) == pytest.approx(result.seconds, abs=1e-4)
    assert not [line for line in result.settings if line.after is None and line.outcome != "accepted"]


def test_a_failure_is_made_in_one_way_of_any_fault() -> None:
    part = Part("AT", "OK", ["ERR 3"], 0.1)
    made = Failure.of(ModuleFault("it failed", part=part, hint="Do this."), "read")
    assert (made.step, made.what, made.said, made.expected, made.heard, made.next, made.status) == (
        "read", "it failed", "AT", "OK", ["ERR 3"], "Do this.", 1,
    )  # fmt: skip
    assert Failure.of(Unreachable("nobody", hint="Look."), "attention").status == 3


def test_no_character_that_is_not_seen_is_shown_as_it_is() -> None:
    unseen = [chr(code) for code in range(0x110000) if category(chr(code)) in ("Cc", "Cf", "Cs", "Zl", "Zp")]
    assert [one for one in [*unseen, "\xa0", "\ufe0f", "\u3164"] if one in visible(f"a{one}b")] == []
    assert visible("Höhe 3 Ω, 日") == "Höhe 3 Ω, 日" and visible("\u00ad\u200d\U000e0041") == "\\xAD\\u200D\\U000E0041"


def test_what_a_module_sent_is_as_it_is_in_data_and_escaped_where_it_is_shown() -> None:
    one = Bench("lindle-l9")
    one.open().quiet(0.3)
    one.standin.memory["name"] = "a\x1b[2J\u202eb"
    assert next(line for line in one.read_out().settings if line.name == "name").before.value == "a\x1b[2J\u202eb"  # type: ignore[union-attr]
    with virtual('[unit.x]\nstandin = "lindle-l9"\nsettings = { name = "a\\u001b[2J\\u009b\\u202eb" }\n') as rig:
        words = ("readout", rig.ports["x"], "-l", "lindle-l9")
        shown, data = wexicon(*words).stdout, wexicon(*words, "--json").stdout
    assert "a\\x1B[2J\\x9B\\u202Eb" in shown
    assert not set("\x1b\x9b\u202e") & set(shown + data)
    line = next(line for line in json.loads(data)["settings"] if line["name"] == "name")
    assert line["before"]["value"] == "a\x1b[2J\x9b\u202eb"


def test_intervals_that_overlap_count_once() -> None:
    assert together([(0.0, 2.0), (1.0, 3.0), (5.0, 6.0), (9.0, 12.0)], 0.5, 10.0) == pytest.approx(2.5 + 1.0 + 1.0)
    assert together([], 0.0, 5.0) == 0.0


def test_an_acknowledgement_that_nobody_trusts_is_counted_beside_one_that_is(
    capsys: pytest.CaptureFixture[str],
) -> None:
    settings = [SettingResult(name, Outcome.ACCEPTED) for name in ("pin", "key")]
    print_verdict(UnitResult(verdict=Verdict.UNPROVED, settings=settings, trusted=["pin"], written=2))
    assert "unproved: 1 accepted, 1 trusted (pin)" in capsys.readouterr().out
