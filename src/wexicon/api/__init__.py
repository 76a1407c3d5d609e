"""Wexicon for Python programs; the commands use it too.

    from wexicon import api

    with api.open_module("/dev/ttyUSB0", "tamsel-k5") as module:
        print(api.read(module).settings)

The rule: everything takes and returns typed values, raises `Fault` (see `wexicon.core.faults`) if the call is wrong or a port
cannot be opened, and prints nothing. Whatever happens on an open port ends in a result.
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from wexicon.api.modules import (
        compare_with,
        do,
        hail,
        lexicon_on,
        open_module,
        open_port,
        read,
        secrets_of,
        set_values,
        stored_lexicon,
        try_settings,
        try_starts,
    )
    from wexicon.api.running import (
        default_listening,
        listen,
        prove_flow,
        provision,
        run,
        sweep,
        talk_session,
        tap,
        traffic,
        verify,
    )
    from wexicon.api.simulated import (
        rehearse_dialogue,
        rehearse_listening,
        rehearse_seat,
        rehearse_sweep,
        rehearse_traffic,
        rig,
        virtual_rig,
    )
    from wexicon.core.dialogue import Program
    from wexicon.core.faults import CallFault, Fault, LinkFault, ModuleFault, Unreachable
    from wexicon.core.formats.jobs import Job
    from wexicon.core.formats.lexicon import Lexicon
    from wexicon.core.formats.sheet import Sheet
    from wexicon.core.protocol.session import Session
    from wexicon.core.results.functions import HeardEvent, TapResult, TrafficResult
    from wexicon.core.results.listed import Attempt, HailResult, PortInfo
    from wexicon.core.results.result import Evidence, Measurement, Outcome, Prove, Tests, Verdict
    from wexicon.core.results.unit import ActionResult, DialogueResult, StartTrial, UnitResult, WriteTrial
    from wexicon.work.contact.catalog import all_lexicons, find_dialogue, find_lexicon, find_sheet, fixture_at
    from wexicon.work.contact.ports import PortAssignment, found_ports, places_of, port_named
    from wexicon.work.contact.sessions import Opening, Setup, open_session
    from wexicon.work.contact.standins import Choice
    from wexicon.work.fleet.sheet_run import Report, SheetRun, chosen_jobs
    from wexicon.work.function.ears import ListenOrder
    from wexicon.work.function.flow_proof import FlowOrder
    from wexicon.work.function.listening import Listened
    from wexicon.work.function.traffic import TrafficOrder
    from wexicon.work.module.module import Module
    from wexicon.work.provisioning.policy import Order, SheetOrder

__all__ = [
    "ActionResult",
    "Attempt",
    "CallFault",
    "Choice",
    "DialogueResult",
    "Evidence",
    "Fault",
    "FlowOrder",
    "HailResult",
    "HeardEvent",
    "Job",
    "Lexicon",
    "LinkFault",
    "ListenOrder",
    "Listened",
    "Measurement",
    "Module",
    "ModuleFault",
    "Opening",
    "Order",
    "Outcome",
    "PortAssignment",
    "PortInfo",
    "Program",
    "Prove",
    "Report",
    "Session",
    "Setup",
    "Sheet",
    "SheetOrder",
    "SheetRun",
    "StartTrial",
    "TapResult",
    "Tests",
    "TrafficOrder",
    "TrafficResult",
    "UnitResult",
    "Unreachable",
    "Verdict",
    "WriteTrial",
    "all_lexicons",
    "chosen_jobs",
    "compare_with",
    "default_listening",
    "do",
    "find_dialogue",
    "find_lexicon",
    "find_sheet",
    "fixture_at",
    "found_ports",
    "hail",
    "lexicon_on",
    "listen",
    "open_module",
    "open_port",
    "open_session",
    "places_of",
    "port_named",
    "prove_flow",
    "provision",
    "read",
    "rehearse_dialogue",
    "rehearse_listening",
    "rehearse_seat",
    "rehearse_sweep",
    "rehearse_traffic",
    "rig",
    "run",
    "secrets_of",
    "set_values",
    "stored_lexicon",
    "sweep",
    "talk_session",
    "tap",
    "traffic",
    "try_settings",
    "try_starts",
    "verify",
    "virtual_rig",
]

# Where each name is: it is imported when it is first used, so that a command loads only what it needs.
_MODULES = {
    "api.modules": "compare_with do hail lexicon_on open_module open_port read secrets_of set_values stored_lexicon "
    "try_settings try_starts",
    "api.running": "default_listening listen prove_flow provision run sweep talk_session tap traffic verify",
    "api.simulated": "rehearse_dialogue rehearse_listening rehearse_seat rehearse_sweep rehearse_traffic rig virtual_rig",
    "core.dialogue": "Program",
    "core.faults": "CallFault Fault LinkFault ModuleFault Unreachable",
    "core.formats.jobs": "Job",
    "core.formats.lexicon": "Lexicon",
    "core.formats.sheet": "Sheet",
    "core.protocol.session": "Session",
    "core.results.functions": "HeardEvent TapResult TrafficResult",
    "core.results.listed": "Attempt HailResult PortInfo",
    "core.results.result": "Evidence Measurement Outcome Prove Tests Verdict",
    "core.results.unit": "ActionResult DialogueResult StartTrial UnitResult WriteTrial",
    "work.contact.catalog": "all_lexicons find_dialogue find_lexicon find_sheet fixture_at",
    "work.contact.ports": "PortAssignment found_ports places_of port_named",
    "work.contact.sessions": "Opening Setup open_session",
    "work.contact.standins": "Choice",
    "work.fleet.sheet_run": "Report SheetRun chosen_jobs",
    "work.function.flow_proof": "FlowOrder",
    "work.function.ears": "ListenOrder",
    "work.function.listening": "Listened",
    "work.function.traffic": "TrafficOrder",
    "work.module.module": "Module",
    "work.provisioning.policy": "Order SheetOrder",
}
_WHERE = {name: module for module, names in _MODULES.items() for name in names.split()}


def __getattr__(name: str) -> object:
    """A name of this package, from where it is."""
    if name not in _WHERE:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    found: object = getattr(import_module(f"wexicon.{_WHERE[name]}"), name)
    globals()[name] = found
    return found


def __dir__() -> list[str]:
    return sorted(__all__)
