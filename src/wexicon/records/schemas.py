"""The JSON Schema of what Wexicon prints and of what it reads, made from the types that do the work."""

from __future__ import annotations

from typing import Union

import msgspec

from wexicon.core.formats.lexicon.phrase import SHAPES
from wexicon.core.formats.lexicon.tables import LexiconFile
from wexicon.core.formats.sheet import SheetFile
from wexicon.core.results.functions import (
    FlowResult,
    HeardEvent,
    Imported,
    ListeningResult,
    SweepResult,
    TalkEnd,
    TalkLine,
    TapResult,
    TrafficResult,
)
from wexicon.core.results.listed import (
    ActionLine,
    Calculation,
    Gaps,
    HailLine,
    HailResult,
    LexiconLine,
    LexiconPage,
    PortChange,
    PortInfo,
    RigPort,
    SettingInForce,
    WiringLine,
)
from wexicon.core.results.unit import ActionResult, DialogueResult, Rehearsal, StartTrial, UnitResult, WriteTrial
from wexicon.core.values import KINDS
from wexicon.records.claims import RunState
from wexicon.records.entry import Entry, SettingPair
from wexicon.records.sealed import HandedOver
from wexicon.records.trace import Record
from wexicon.records.trace_list import TraceComparison, TraceInfo

TITLES: dict[str, tuple[object, str]] = {
    "result": (UnitResult, "Result of one unit: provision, verify, readout, set"),
    "dialogue": (DialogueResult, "Result of a dialogue: run, rehearse"),
    "action": (ActionResult, "Result of an action: do"),
    "hail": (HailResult, "Result of hail"),
    "rehearsal": (Rehearsal, "Result of rehearse with a sheet of many units"),
    "trial": (StartTrial, "Result of lexicon check --prove"),
    "settings-trial": (WriteTrial, "Result of lexicon check --write, and a lexicon's proof"),
    "traffic": (TrafficResult, "Result of traffic"),
    "sweep": (SweepResult, "Result of traffic --sweep"),
    "flow": (FlowResult, "Result of traffic --flow-proof"),
    "listening": (ListeningResult, "Result of listen, on the last line"),
    "event": (HeardEvent, "One event of listen"),
    "unit": (Entry, "One record of the register: units"),
    "port": (PortInfo, "One port"),
    "trace": (Record, "One record of a trace"),
    "comparison": (TraceComparison, "Result of trace compare"),
    "run": (RunState, "One run of units watch"),
    "pair": (SettingPair, "One setting of units compare"),
    "calculations": (Calculation, "One result of calc"),
    "wiring": (WiringLine, "One pin of calc wiring"),
    "tap": (TapResult, "Result of tap, on the last line; before it records of a trace"),
    "imported": (Imported, "Result of trace import"),
    "traces": (TraceInfo, "One trace of trace list"),
    "talk": (TalkLine, "One line of talk"),
    "talk-end": (TalkEnd, "The last line of talk: what is known of the module"),
    "secret": (HandedOver, "One secret of units secrets"),
    "config": (SettingInForce, "One setting of config"),
    "actions": (ActionLine, "One action of do without an action"),
    "hail-lines": (HailLine, "What hail may say: hail --list"),
    "lexicons": (LexiconLine, "One lexicon of lexicon list"),
    "lexicon-page": (LexiconPage, "lexicon show"),
    "gaps": (Gaps, "Result of lexicon check"),
    "rig-ports": (RigPort, "One port of rig ports"),
    "port-change": (PortChange, "One line of ports --watch"),
    "lexicon": (LexiconFile, "Lexicon, format 1"),
    "sheet": (SheetFile, "Sheet, format 1"),
}


def _own(kind: type) -> dict[str, object]:
    """The schema of a value that may be anything, and of what files say as text."""
    if kind is object:
        return {"description": "any value"}
    return dict(SHAPES[kind])


def schema_of(kind: str) -> dict[str, object]:
    """The schema of a result, dialogue, trace, lexicon or sheet."""
    type_, title = TITLES[kind]
    made = msgspec.json.schema(type_, schema_hook=_own)
    made["title"] = f"Wexicon: {title}"
    if kind == "lexicon":
        # Value kinds are found by name when a lexicon is read; here they stand side by side.
        KINDS.complete()
        kinds: object = Union[tuple(KINDS.values())]  # noqa: UP007
        (union,), parts = msgspec.json.schema_components([kinds], ref_template="#/$defs/{name}", schema_hook=_own)
        made["$defs"].update(parts)
        made["$defs"]["SettingTable"]["properties"]["value"] = union
        if "Field" in made["$defs"]:
            made["$defs"]["Field"]["properties"]["value"] = union
    return made
