"""Kinds of values: what a setting may be, how it is written to a module, and how it is read back.

A new kind is a class of its own, in KINDS or under the entry point group `wexicon.kinds`.
"""

from wexicon.core.registry import Registry
from wexicon.core.values.base import UNSET, Kind, MakeKind, Unset, Value, ValueFault
from wexicon.core.values.coded import ChoiceKind, Flag, FrameKind, Rate
from wexicon.core.values.compound import ClockKind, Field, List, Tuple
from wexicon.core.values.numbers import Int, NumberKind, StationKind, TimerKind
from wexicon.core.values.texts import Address, Content, Digits, FileContent, Hex, Text

KINDS: Registry[type[Kind]] = Registry(
    "wexicon.kinds",
    {
        "address": Address,
        "choice": ChoiceKind,
        "clock": ClockKind,
        "content": Content,
        "decimal": NumberKind,
        "digits": Digits,
        "flag": Flag,
        "frame": FrameKind,
        "hex": Hex,
        "int": Int,
        "list": List,
        "rate": Rate,
        "station": StationKind,
        "text": Text,
        "timer": TimerKind,
        "tuple": Tuple,
    },
)

__all__ = [
    "KINDS",
    "UNSET",
    "Address",
    "ChoiceKind",
    "ClockKind",
    "Content",
    "Digits",
    "Field",
    "FileContent",
    "Flag",
    "FrameKind",
    "Hex",
    "Int",
    "Kind",
    "List",
    "MakeKind",
    "NumberKind",
    "Rate",
    "StationKind",
    "Text",
    "TimerKind",
    "Tuple",
    "Unset",
    "Value",
    "ValueFault",
]
