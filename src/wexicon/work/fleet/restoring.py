"""What a module's settings were before it was provisioned, from the register, as a sheet that brings them back.

The rule: a value is one that was read from this very module before the first write. What could not be read then, and every
secret, is left out and named.
"""

from __future__ import annotations

from datetime import date
from typing import TYPE_CHECKING

import msgspec

from wexicon.core.faults import CallFault
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.formats.sheet import Seat, Sheet
from wexicon.core.values import Value, ValueFault
from wexicon.records.entry import Entry
from wexicon.work.contact.catalog import find_lexicon
from wexicon.work.results.unit import Shown

if TYPE_CHECKING:
    from wexicon.records.register import Register


class Earlier(msgspec.Struct, frozen=True):
    """The state before the run of a record: as a sheet of one seat, and the settings that are not in it, each with why."""

    entry: Entry
    sheet: Sheet
    left_out: dict[str, str]


def earlier_state(register: Register, unit: str, since: date | None = None, lexicon: str = "") -> Earlier:
    """The state of a unit before the last run that provisioned it, or before the first one on this day (UTC) or after it.
    Raises Fault."""
    history = register.history(unit)
    if not history:
        raise CallFault(f"the register has no unit {unit}", where=register.where, hint="wexicon units list shows all.")
    wrote = [one for one in history if one.did == "provision" and one.result.get("prior")]
    if since:
        wrote = [one for one in wrote if one.at >= since.isoformat()][:1]
    if not wrote:
        what = f"the register has no earlier settings of {unit}" + (f" from {since} on" if since else "")
        raise CallFault(what, where=register.where, hint="They are recorded by a provisioning that writes something.")
    entry = wrote[-1]
    found = find_lexicon(lexicon or entry.lexicon)
    wanted, left_out = _values(found, entry)
    if not wanted:
        raise CallFault(f"none of the earlier settings of {unit} can be written", where=register.where)
    name = entry.name or entry.unit
    seat = Seat(name, found, wanted)
    return Earlier(entry, Sheet(f"restore {name}", entry.sheet, {name: seat}, entry.digest), left_out)


def _values(lexicon: Lexicon, entry: Entry) -> tuple[dict[str, Value], dict[str, str]]:
    try:
        prior = msgspec.convert(entry.result["prior"], dict[str, Shown])
    except msgspec.ValidationError as fault:
        raise CallFault(f"the earlier settings of {entry.unit} cannot be read: {fault}") from None
    wanted: dict[str, Value] = {}
    left_out = {name: "not in this lexicon" for name in prior if name not in lexicon.settings}
    for name, setting in lexicon.settings.items():
        if not setting.writable or setting.volatile:
            continue
        if name not in prior:
            left_out[name] = "secret" if setting.secret else "was not read"
            continue
        try:
            wanted[name] = prior[name].value_for(setting)
        except ValueFault as fault:
            left_out[name] = f"{prior[name].shown} {fault.why}"
    return wanted, left_out
