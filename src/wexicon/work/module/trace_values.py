"""What a module was, as the trace of an earlier session says.

The rule: what a trace tells is read from it as from a module, by the same code.
"""

from __future__ import annotations

from contextlib import suppress
from pathlib import Path

from msgspec.structs import replace

from wexicon.core.agenda import Agenda
from wexicon.core.faults import CallFault, ModuleFault
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.protocol.recorded import Recorded
from wexicon.core.values import Value
from wexicon.records.trace_reader import recorded
from wexicon.rigs.bench import Bench, UnitTable
from wexicon.work.contact.sessions import Opening
from wexicon.work.contact.standins import on_ports
from wexicon.work.module.opening import module_on_port


def values_in_trace(path: Path, lexicon: Lexicon) -> dict[str, Value]:
    """The settings as a recorded session read them last, but for secrets. Raises Fault."""
    bench = Bench("", {"trace": UnitTable("recording")}, Agenda(), None, lambda name: _latest(recorded(path)))
    names = [name for name, setting in lexicon.settings.items() if not setting.secret and not setting.from_link]
    found: dict[str, Value] = {}
    bench.power_up()
    opening = Opening(tuning=bench.unit("trace").standin.uart.tuning)
    with on_ports(bench) as setup, module_on_port("virtual://trace", lexicon, setup, opening) as module:
        for name in names:
            # What the trace has no answer for is not in it.
            with suppress(ModuleFault):
                value = module.settings.read([name])[name].value
                if value is not None:
                    found[name] = value
    if not found:
        hint = "Take the trace of a readout, a verify or a provision with this lexicon."
        raise CallFault(f"no setting of {lexicon.about.family} was read in it", where=str(path), hint=hint)
    return found


def _latest(told: Recorded) -> Recorded:
    """The last exchange of each line, all on one link."""
    last = {one.said: one for one in told.exchanges if one.said is not None and one.heard}
    kept = [replace(one, tuning=told.tuning) for one in last.values()]
    return replace(told, exchanges=kept)
