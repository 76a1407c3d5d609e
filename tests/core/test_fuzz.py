"""A small part of the fuzzing: whatever comes as a file or as bytes ends in a clear fault or a clean result."""

from __future__ import annotations

from pathlib import Path

import pytest
from benchmarks.fuzz import TARGETS, attempt


@pytest.mark.parametrize("name", sorted(TARGETS))
def test_anything_at_all_ends_in_a_fault_or_a_result(name: str, tmp_path: Path) -> None:
    # The same cases each time, however fast the machine is.
    most = {"labels": 1, "provisioning": 10}.get(name, 40)
    _, count, _, _, wrong = attempt(name, seed=7, wanted=60, most=most)
    assert count == most and not wrong, "\n".join(wrong)
