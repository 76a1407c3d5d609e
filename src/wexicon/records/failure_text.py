"""Why a unit or a test failed, as every list and report has it: the step, and the words of its run.

The rule: one place reads the failure of a recorded result; text from a module is escaped here.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from wexicon.core.text import visible

# The most received lines that are shown.
MOST_HEARD = 20


def first_failure(result: Mapping[str, Any]) -> Mapping[str, Any] | None:
    """Why a unit failed, or the first of its tests that did; None if nothing failed."""
    return next((one["failure"] for one in (result, *result.get("tests", [])) if one.get("failure")), None)


def in_one_line(failure: Mapping[str, Any] | None) -> str:
    """The step, and what happened; empty if nothing failed."""
    if not failure:
        return ""
    what = str(failure.get("what", "")).splitlines()[:1]
    return f"{visible(str(failure.get('step', '')))}: {visible(' '.join(what))}".removeprefix(": ")


def in_full(failure: Mapping[str, Any] | None) -> list[str]:
    """The step and what happened, the line sent, the answer expected, those received, and what to do."""
    if not failure:
        return []
    lines = [f"{failure.get('step', '')}: {failure.get('what', '')}".removeprefix(": ")]
    lines += [f"{key}: {failure[key]}" for key in ("said", "expected") if failure.get(key)]
    lines += [f"heard: {text}" for text in failure.get("heard", [])[:MOST_HEARD]]
    lines += [failure["next"]] if failure.get("next") else []
    return [visible(str(text)) for text in lines]
