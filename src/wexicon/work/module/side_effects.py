"""What a module has become beside what was ordered: all its readable settings before the first write, and again at the end.

The rule: what differs is told with both values. One answer may be wrong, so what seems to differ is read again.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence

import msgspec

from wexicon.core.formats.lexicon import Setting
from wexicon.core.results.unit import Shown
from wexicon.core.text import HIDDEN, visible
from wexicon.work.module.module import Module
from wexicon.work.module.readings import Reading


class Difference(msgspec.Struct, frozen=True):
    """A setting that is not what it was: before, now, and why there is no value now."""

    before: Shown | None
    now: Shown | None
    why: str = ""

    def told(self, name: str) -> str:
        """In words."""
        was, is_ = (visible(one.shown) if one else "not understood" for one in (self.before, self.now))
        return f"{name} was {was}, and {self.why or f'is {is_}'}"


def all_readings(
    module: Module,
    known: Mapping[str, Reading] | None = None,
    failed: dict[str, str] | None = None,
    *,
    secrets: bool = True,
) -> dict[str, Reading]:
    """Every setting that can be read, also `secrets`, which are kept in memory only; `known` were read just now. Those that
    could not be read are put into `failed`, with the reason."""
    known = known or {}
    names = [
        name
        for name, one in module.lexicon.settings.items()
        if name not in known and not one.from_link and (secrets or not one.secret) and module.has(name)
    ]
    return {**known, **module.settings.read(names, {} if failed is None else failed)}


def differences(
    module: Module, before: Mapping[str, Reading], ordered: Collection[str], stored: Mapping[str, Shown] | None = None
) -> dict[str, Difference]:
    """The settings that were not `ordered` and that are not as they were `before`, or as an earlier run has `stored` them."""
    stored = stored or {}
    names = [name for name in module.lexicon.settings if name not in ordered and (name in before or name in stored)]
    found = _differing(module, names, before, stored)
    return _differing(module, list(found), before, stored)


def shown_as(setting: Setting, reading: Reading) -> Shown:
    """A reading, also one that was not understood."""
    if setting.secret:
        return Shown(None, "", HIDDEN)
    return Shown.of(setting, reading.value) or Shown(None, "", reading.shown(setting))


def _differing(
    module: Module, names: Sequence[str], before: Mapping[str, Reading], stored: Mapping[str, Shown]
) -> dict[str, Difference]:
    unread: dict[str, str] = {}
    found = module.settings.read(names, unread) if names else {}
    made: dict[str, Difference] = {}
    for name in names:
        setting, now, was = module.lexicon.settings[name], found.get(name), before.get(name)
        shown = shown_as(setting, was) if was else stored.get(name)
        if now is None:
            made[name] = Difference(shown, None, f"cannot be read any more: {unread.get(name, 'no answer')}")
            continue
        after = shown_as(setting, now)
        if not now.same_as(was) if was else after.storable() != shown:
            made[name] = Difference(shown, after)
    return made
