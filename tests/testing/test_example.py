"""The example for firmware teams passes its own tests, in Python and, where there is a compiler, in C."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import pytest

from tests.conftest import clean

EXAMPLE = Path(__file__).parents[2] / "examples" / "firmware-driver"


@pytest.mark.parametrize("language", ["python", pytest.param("c", marks=pytest.mark.long)])
def test_the_driver_passes(language: str, tmp_path: Path) -> None:
    words = ["-p", "no:cacheprovider", "-n", "4", "-k", f"[{language}]", "--basetemp", str(tmp_path / "run")]
    ran = subprocess.run(
        [sys.executable, "-m", "pytest", *words, str(EXAMPLE)], capture_output=True, text=True, env=clean({})
    )
    assert "6 passed, 1 skipped" in ran.stdout, ran.stdout + ran.stderr
