"""Two units of the register, setting by setting, as they were last read.

The rule: a value is one that was read from that module; a setting that only one of them has differs.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

import msgspec

from wexicon.records.entry import Entry


class SettingPair(msgspec.Struct, frozen=True):
    """One setting of two units, as text; empty where it was not read."""

    setting: str
    first: str
    second: str
    same: bool


def compare_settings(first: Iterable[Entry], second: Iterable[Entry]) -> list[SettingPair]:
    """The settings of two units, from the history of each, the oldest record first."""
    a, b = _last_read(first), _last_read(second)
    names = dict.fromkeys([*a, *b])
    return [SettingPair(name, a.get(name, ""), b.get(name, ""), a.get(name) == b.get(name)) for name in names]


def _last_read(history: Iterable[Entry]) -> dict[str, str]:
    values: dict[str, str] = {}
    for one in history:
        prior: Mapping[str, Any] = one.result.get("prior") or {}
        values |= {name: str(shown.get("shown", "")) for name, shown in prior.items() if isinstance(shown, dict)}
        values |= {line["name"]: line["after"]["shown"] for line in one.result["settings"] if line["after"]}
    return values
