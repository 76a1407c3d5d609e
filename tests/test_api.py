"""A program of twenty lines that uses `wexicon.api`: a type checker sees its true types, and it runs."""

from __future__ import annotations

import re
import subprocess
import sys
from pathlib import Path

import pytest

from tests.conftest import bench, clean

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
