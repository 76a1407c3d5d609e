"""The secrets that are generated for each unit, and kept in the sheet's hand-over file.

The rule: a secret comes from the system's source of randomness, and is in the file before it is written to the module; a unit
that is provisioned again keeps its own. The file says whether the module was observed to have it; after any failure it is
doubtful.
"""

from __future__ import annotations

import secrets
from collections.abc import Mapping
from datetime import UTC, datetime
from pathlib import Path

from wexicon.core.faults import CallFault
from wexicon.core.formats.jobs import Job
from wexicon.core.formats.sheet import Sheet
from wexicon.core.formats.wanted import source_of
from wexicon.core.results.result import Outcome
from wexicon.core.results.unit import UnitResult
from wexicon.core.values import Value
from wexicon.records.sealed import ACKNOWLEDGED, DOUBTFUL, READ_BACK, HandedOver, HandOverFile

# How often another one is drawn, where each must be different.
_TRIES = 1000


class GeneratedSecrets:
    """Draws secrets that are kept nowhere, as for a rehearsal."""

    def of(self, job: Job, unit: str) -> dict[str, Value]:
        """The generated values of a unit; `unit` is what its module says of itself. Raises CallFault."""
        return {
            name: job.seat.lexicon.settings[name].typed(one.draw(secrets.choice))
            for name, one in job.seat.generated.items()
        }

    def done(self, job: Job, unit: str, result: UnitResult) -> None:
        """Records what was observed of the secrets of a unit that was provisioned."""


class KeptSecrets(GeneratedSecrets):
    """The generated secrets of a sheet, kept in its hand-over file; new ones are drawn if it may `write`. Raises CallFault if
    the file cannot be opened."""

    def __init__(self, sheet: Sheet, *, write: bool) -> None:
        assert sheet.hand_over and sheet.secret
        source = source_of(sheet.hand_over.password)
        assert source
        prompt = f"{sheet.hand_over.file}: {source.text}"
        try:
            password = sheet.secret(source.kind, prompt if source.kind == "prompt" else source.text)
        except ValueError as fault:
            raise CallFault(f"the password of {sheet.hand_over.file}: {fault}") from None
        if not password:
            raise CallFault(f"the password of {sheet.hand_over.file} is empty")
        self._sheet, self._write = sheet, write
        self._file = HandOverFile(Path(sheet.path).parent / sheet.hand_over.file, password)
        self._file.secrets()

    def of(self, job: Job, unit: str) -> dict[str, Value]:
        if not job.seat.generated:
            return {}
        if not unit and not self._sheet.has_fixed_units:
            what = f"{job.seat.lexicon.about.family} does not say who it is: nobody could tell whose the secret is"
            raise CallFault(what, hint='Give the units rows: units = "FILE.csv", and each = "row".')
        texts = self._file.change(lambda kept: self._texts(kept, job, unit))
        return {name: job.seat.lexicon.settings[name].typed(text) for name, text in texts.items()}

    def done(self, job: Job, unit: str, result: UnitResult) -> None:
        if job.seat.generated:
            outcomes = {line.name: line.outcome for line in result.settings}
            self._file.change(lambda kept: self._note(kept, job, unit, outcomes if not result.failure else {}))

    def _note(self, kept: list[HandedOver], job: Job, unit: str, outcomes: Mapping[str, Outcome]) -> None:
        for one in kept:
            mine = one.unit == unit if unit else one.name == job.name
            if not mine or one.sheet != self._sheet.called or one.setting not in job.seat.generated:
                continue
            match outcomes.get(one.setting):
                case Outcome.CHANGED | Outcome.UNCHANGED:
                    one.state = READ_BACK
                case Outcome.ACCEPTED:
                    one.state = ACKNOWLEDGED
                case _:
                    one.state = DOUBTFUL

    def _texts(self, kept: list[HandedOver], job: Job, unit: str) -> dict[str, str]:
        found: dict[str, str] = {}
        sheet = self._sheet
        assert sheet.hand_over
        mine = [one for one in kept if one.sheet == sheet.called]
        for name, one in job.seat.generated.items():
            same = [other for other in mine if other.setting == name]
            own = next((other for other in same if (other.unit == unit if unit else other.name == job.name)), None)
            if own:
                found[name] = own.value
                continue
            if not self._write:
                what = f"{sheet.hand_over.file} has no {name} of this unit"
                raise CallFault(what, hint="It was not provisioned with this sheet.")
            used = {other.value for other in same} if name in sheet.agree.different else set()
            drawn = next((text for _ in range(_TRIES) if (text := one.draw(secrets.choice)) not in used), None)
            if drawn is None:
                raise CallFault(f"{name}: {one.count} {one.kind} are too few for so many different units")
            now = datetime.now(UTC).isoformat(timespec="seconds")
            kept.append(HandedOver(unit, job.name, sheet.called, name, drawn, now, name in sheet.hand_over.label))
            found[name] = drawn
        return found
