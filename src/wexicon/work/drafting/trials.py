"""Tries a lexicon's settings on a module: which are read, written back, and taken at both ends of their ranges; the proof is
kept beside the lexicon.

The rule: each value that was changed is put back at once, and all are compared at the end; what moves the link is not written.
A proof holds for the very file that was tried and for the firmware that it names; no secret is in it.
"""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime
from decimal import Decimal
from pathlib import Path

import msgspec

from wexicon.core.faults import CallFault, ModuleFault
from wexicon.core.formats.lexicon import Lexicon, Setting
from wexicon.core.results.result import Failure, Verdict
from wexicon.core.results.unit import Fits, Trial, Unfinished, WriteTrial, told_counts
from wexicon.core.text import counted, encodable
from wexicon.core.values import UNSET, ClockKind, Digits, Int, List, NumberKind, Text, Value, ValueFault
from wexicon.files import read_record, shipped_folder, write_whole
from wexicon.work.drafting.start_trial import ModuleTrial
from wexicon.work.module.module import Module
from wexicon.work.module.readings import Reading
from wexicon.work.module.settings import Refused
from wexicon.work.provisioning.unfinished import Store


class _WriteTrial(ModuleTrial[WriteTrial]):
    def __init__(self, module: Module, store: Store, *, beyond: bool) -> None:
        digest = module.lexicon.digest
        super().__init__(module, store, WriteTrial(digest=digest, beyond=beyond, tried=datetime.now(UTC)))
        self.beyond = beyond
        self.found: dict[str, Reading] = {}

    def judge(self) -> None:
        result = self.result
        wrong = result.count(Fits.NO)
        result.verdict = Verdict.FAILED if wrong or not result.restored else Verdict.DONE
        if result.verdict is Verdict.FAILED:
            told = f"{counted(wrong, 'trial')} of {len(result.trials)} did not fit the lexicon"
            next_ = "Correct the lexicon by the datasheet, and try it again."
            result.failure = Failure("compare", told if wrong else "not restored", next=next_)

    def walk(self) -> None:
        module, result = self.module, self.result
        self.enter("attention", searching=True)
        module.attention.gain([*module.likely, self.lexicon.factory])
        self.enter("identify")
        result.identity = dict(module.identify())
        result.firmware = result.identity.get(self.lexicon.firmware, "")
        self.enter("read")
        failed: dict[str, str] = {}
        self.found = module.settings.read(self.lexicon.settings, failed)
        for name, setting in self.lexicon.settings.items():
            self._note_read(setting, failed.get(name, ""))
        unit = self.lexicon.unit_of(module.identity, self.session.link.name)
        planted = dict(self._texts())
        self.store.open(Unfinished(unit, datetime.now(UTC), [], planted=planted))
        for name, setting in self.lexicon.settings.items():
            self.enter(f"write {name}")
            if why := self._why_not(setting):
                self._add(setting, "write back", Fits.NOT_TRIED, why)
                continue
            value = self.found[name].value
            assert value is not None
            self._back(setting, value)
            for what, tried, allowed in _ends(setting, value) if self.beyond else ():
                self._end(setting, value, what, tried, allowed=allowed)
        self.enter("compare")
        after = module.settings.read(self.found, {})
        differ = [
            name
            for name, before in self.found.items()
            if not isinstance(self.lexicon.settings[name].kind, ClockKind)
            and (name not in after or not after[name].same_as(before))
        ]
        result.restored = not differ
        if differ:
            result.remarks.append(f"not as before: {', '.join(differ)}. Cut its power: nothing was saved.")
        else:
            self.store.close(unit)
        self.enter("leave")
        module.leave()

    def _texts(self) -> Iterator[tuple[str, str]]:
        """The module's words for what is written during the trial."""
        for name, reading in self.found.items():
            setting = self.lexicon.settings[name]
            plain = reading.value is not None and reading.value is not UNSET and not setting.secret
            if plain and not self._why_not(setting) and not setting.add and not isinstance(setting.kind, ClockKind):
                yield name, reading.text

    def _note_read(self, setting: Setting, why: str) -> None:
        reading = self.found.get(setting.name)
        if not self.module.has(setting.name):
            self._add(setting, "read", Fits.NOT_TRIED, "this firmware does not have it")
        elif not setting.readable:
            self._add(setting, "read", Fits.NOT_TRIED, "cannot be read")
        elif reading is None or reading.value is None:
            self._add(setting, "read", Fits.NO, why or (f"the answer {reading.why}" if reading else "no answer"))
        else:
            self._add(setting, "read", Fits.YES)

    def _why_not(self, setting: Setting) -> str:
        """Why a setting is not written; empty if it is."""
        reading = self.found.get(setting.name)
        if not setting.writable:
            return "cannot be written"
        if reading is None or reading.value is None:
            return "was not read"
        if setting.moves_link:
            return "moves the link"
        if reading.value is UNSET:
            return "is not set"
        others = {name: found.value for name, found in self.found.items()}
        unmet = [need for need, value in setting.needs.items() if others.get(need) != value]
        return f"needs another value of {unmet[0]}" if unmet else ""

    def _known(self) -> dict[str, Value]:
        return {name: reading.value for name, reading in self.found.items() if reading.value is not None}

    def _now(self, setting: Setting) -> Reading | None:
        return self.module.settings.read([setting.name], {}).get(setting.name)

    def _back(self, setting: Setting, value: Value) -> None:
        """Writes what was read."""
        value = setting.kind.check("now") if isinstance(setting.kind, ClockKind) else value
        try:
            self.module.settings.write({setting.name: value}, self._known())
        except ModuleFault as fault:
            self._add(setting, "write back", Fits.NO, fault.what)
            return
        now = self._now(setting)
        if now is not None and now.value is not None and setting.matches(now.value, value):
            self._add(setting, "write back", Fits.YES)
        else:
            shown = now.shown(setting) if now else "no answer"
            self._add(setting, "write back", Fits.NO, f"acknowledged, but reads back as {shown}")

    def _end(self, setting: Setting, value: Value, what: str, tried: Value, *, allowed: bool) -> None:
        """Writes a value at an end of the range, or beyond it, and puts back what was there."""
        shown = _shown(setting, tried)
        try:
            self.module.settings.write({setting.name: tried}, self._known())
            refused = ""
        except Refused as fault:
            refused = fault.what
        except ModuleFault as fault:
            # What cannot be said is no answer of the module.
            self._add(setting, what, Fits.NOT_TRIED, f"{shown}: {fault.what}")
            return
        now = self._now(setting)
        there = now is not None and now.text in (setting.kind.encode(tried), str(tried))
        if allowed:
            fits = not refused and now is not None and now.value is not None and setting.matches(now.value, tried)
            note = (
                f"{shown} is refused: {refused}"
                if refused
                else f"{shown} reads back as {now.shown(setting) if now else 'nothing'}"
            )
            self._add(setting, what, Fits.YES if fits else Fits.NO, shown if fits else note)
        else:
            kept = now is not None and now.same_as(self.found[setting.name])
            told = (
                f"{shown} is accepted"
                if there
                else f"{shown} is acknowledged and reads back as {now.shown(setting) if now else '?'}"
            )
            self._add(
                setting,
                what,
                Fits.YES if refused or kept else Fits.NO,
                f"{shown} is refused" if refused else f"{shown} is ignored" if kept else told,
            )
        if not (now is not None and now.same_as(self.found[setting.name])):
            self.module.settings.write({setting.name: value}, self._known())

    def _add(self, setting: Setting, what: str, fits: Fits, note: str = "") -> None:
        self.result.trials.append(Trial(setting.name, what, fits, note))


def _shown(setting: Setting, value: Value) -> str:
    text = setting.show(value)
    return text if len(text) <= 40 else f"{len(text)} characters"


def _ends(setting: Setting, value: Value) -> Iterator[tuple[str, Value, bool]]:
    """What is tried of a setting: its name, the value, and whether the lexicon allows it."""
    kind = setting.kind
    if isinstance(kind, Int | NumberKind):
        step = Decimal(str(kind.step or 1)) if isinstance(kind, NumberKind) else kind.step
        for inside, outside, limit, sign in (("lowest", "below", kind.min, -1), ("highest", "above", kind.max, 1)):
            if limit is None:
                continue
            end: Value = Decimal(str(limit)) if isinstance(kind, NumberKind) else int(limit)
            if _allowed(setting, end):
                yield inside, kind.check(end), True
            if not (isinstance(kind, Int) and kind.base == 16 and sign < 0 and not end):
                yield outside, end + sign * step, False  # type: ignore[operator]
    elif isinstance(kind, Text | Digits):
        longest = kind.max_bytes if isinstance(kind, Text) else kind.max
        # Text that may hold no letters has a form of its own, such as an address.
        char = next((one for one in ("0" if isinstance(kind, Digits) else "x") if _allowed(setting, one * longest)), "")
        if char and longest <= 250:
            yield "longest", char * longest, True
            yield "too long", char * (longest + 1), False


def _allowed(setting: Setting, value: object) -> bool:
    try:
        setting.kind.check(value)
    except ValueFault:
        return False
    return not isinstance(setting.kind, List)


def try_settings(module: Module, store: Store, *, beyond: bool = False) -> WriteTrial:
    """Tries the settings of a module's lexicon, and puts back what it changed; `beyond` tries values outside of the ranges too.
    `store` remembers what was changed until it is back."""
    return _WriteTrial(module, store, beyond=beyond).run()


def proof_path(lexicon: Lexicon) -> Path:
    """Where the proof of a lexicon is."""
    return Path(lexicon.path).with_suffix(".proof.json")


def store_proof(lexicon: Lexicon, result: WriteTrial) -> str:
    """Stores a trial as the proof of its lexicon; gives the file, empty for a shipped lexicon. Raises CallFault."""
    path = proof_path(lexicon)
    if path.absolute().parent == shipped_folder():
        return ""
    data = msgspec.json.format(msgspec.json.encode(encodable(msgspec.to_builtins(result))), indent=2)
    write_whole(path, data, own=False)
    return str(path)


def proof_of(lexicon: Lexicon) -> str:
    """What the proof of a lexicon says, as a sentence; empty if there is none."""
    path = proof_path(lexicon)
    try:
        found = read_record(path, WriteTrial)
    except CallFault:
        return ""
    if found is None:
        return ""
    if found.digest != lexicon.digest:
        return f"{path.name} is of an earlier version of this file: try it again with --write"
    when = f" on {found.tried:%Y-%m-%d}" if found.tried else ""
    firmware = f", firmware {found.firmware}" if found.firmware else ""
    return f"tried on a module{firmware}{when}: {', '.join(told_counts(found))}"
