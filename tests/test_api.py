"""A program of twenty lines that uses `wexicon.api`: a type checker sees its true types, and it runs."""

from __future__ import annotations

import inspect
import re
import shutil
import subprocess
import sys
import textwrap
from pathlib import Path

import pytest

import wexicon as package
from tests.conftest import bench, clean, virtual

PROGRAM = """\
from pathlib import Path

from wexicon import api


def main(port: str) -> int:
    found = api.hail(port, "lindle-l9")
    reveal_type(found)
    with api.open_module(port, "lindle-l9") as module:
        reveal_type(module)
        before = api.read(module)
        reveal_type(before.settings[0].before)
        made = api.set_values(module, {"name": "Withy Point"})
        reveal_type(made.verdict)
    reveal_type(made.evidence)
    for line in made.settings:
        print(line.name, line.outcome)
    return 0 if made.verdict is api.Verdict.CONFORMS else 1


raise SystemExit(main(Path("port").read_text()))
"""
LORA = '[unit.mast]\nstandin = "lindle-l9"\n'
TRUE = ["HailResult", "Module", "Shown | None", "Verdict", "Evidence"]


@pytest.mark.long
def test_a_type_checker_sees_true_types() -> None:
    Path("program.py").write_text(PROGRAM)
    words = [sys.executable, "-m", "mypy", "--strict", "program.py"]
    done = subprocess.run(words, capture_output=True, text=True, env=clean({}), timeout=300)
    found = [re.sub(r"[\w.]+\.", "", one) for one in re.findall(r'Revealed type is "(.*)"', done.stdout)]
    assert done.returncode == 0 and found == TRUE, done.stdout


def test_the_program_runs() -> None:
    Path("program.py").write_text(re.sub(r" +reveal_type.*\n", "", PROGRAM))
    with bench(LORA) as rig:
        Path("port").write_text(rig.ports["mast"])
        done = subprocess.run(
            [sys.executable, "program.py"], capture_output=True, text=True, env=clean({}), timeout=60, check=False
        )
    assert done.returncode == 0, done.stderr
    assert "name changed" in done.stdout


# -- the examples of the docstrings ---------------------------------------------------------------------------------------

PAIR = """
[unit.relay]
standin = "lindle-l9"
[unit.mast]
standin = "lindle-l9"
settings = { addr = 2 }
"""
RIGS = {"run": '[unit.wifi]\nstandin = "brisca-w1"\n'}
FUNCTIONS = [name for name in package.__all__ if inspect.isfunction(getattr(package, name))]


def example_of(name: str) -> str:
    """The example in the docstring of a function."""
    return textwrap.dedent((inspect.getdoc(getattr(package, name)) or "").partition("\n\n")[2])


@pytest.mark.parametrize("name", FUNCTIONS)
def test_the_example_of_each_function_runs(name: str, capsys: pytest.CaptureFixture[str]) -> None:
    example = example_of(name)
    assert f"wexicon.{name}(" in example
    for file in ("radio-pair.toml", "first-words.wex", "rig.toml", "buoy-joiner.img", "quay-coordinator.img"):
        shutil.copy(Path(package.__file__).parent / "sample" / file, file)
    with virtual(RIGS.get(name, PAIR)) as rig:
        for number, port in enumerate(rig.ports.values()):
            example = example.replace(f'"/dev/ttyUSB{number}"', repr(port)).replace(f"/dev/ttyUSB{number}", port)
        exec(compile(example, name, "exec"), {"wexicon": package, "Path": Path})
    printed = capsys.readouterr().out
    assert printed.strip() and ("failed" in printed) == (name == "verify")


def test_a_fault_carries_what_was_said_and_heard() -> None:
    with virtual(PAIR) as rig, package.open_module(rig.ports["relay"], "brisca-w1") as module:
        result = package.read(module)
        with pytest.raises(package.Fault) as caught:
            result.require()
    assert result.failure is not None and caught.value.status == result.status == 3
    # A line in capitals, or with another ending, is an error to this family.
    assert caught.value.part.said == "AT" and "@err" in " ".join(caught.value.part.heard)
