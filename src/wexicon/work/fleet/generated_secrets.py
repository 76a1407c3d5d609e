"""The secrets that are drawn for the units of a sheet, kept in its hand-over file.

The rule: they come from the system's source of randomness, and are in the file before the module is told. A unit that is made
again keeps its own. It is known by what its module says of itself, or, where that says nothing, by its row.
"""

from __future__ import annotations

import secrets
from datetime import UTC, datetime
from pathlib import Path

from wexicon.core.faults import CallFault
from wexicon.core.formats.jobs import Job
from wexicon.core.formats.secret_sources import source_of
from wexicon.core.formats.sheet import Sheet
from wexicon.core.values import Value
from wexicon.records.sealed import HandedOver, HandOverFile

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


class KeptSecrets(GeneratedSecrets):
    """The generated secrets of a sheet, kept in its hand-over file; new ones are drawn if it may `write`. Raises CallFault if
    the file cannot be opened."""

    def __init__(self, sheet: Sheet, *, write: bool) -> None:
        assert sheet.hand_over and sheet.secret
        source = source_of(sheet.hand_over.password)
        assert source
        kind, text = source
        try:
            password = sheet.secret(kind, f"{sheet.hand_over.file}: {text}" if kind == "prompt" else text)
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
