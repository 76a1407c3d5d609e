"""Kinds of values: what a setting may be, how it is written to a module, and how it is read back.

A new kind is a class of its own, in KINDS or under the entry point group `wexicon.kinds`.
"""

from wexicon.core.registry import Registry
from wexicon.core.values.base import UNSET, Kind, MakeKind, Unset, Value, ValueFault
from wexicon.core.values.coded import Choice, Flag, Frame, Rate
from wexicon.core.values.compound import Clock, Field, List, Tuple
from wexicon.core.values.numbers import Int, Number, Station, Timer
from wexicon.core.values.texts import Address, Content, Digits, FileContent, Hex, Text

KINDS: Registry[type[Kind]] = Registry(
    "wexicon.kinds",
    {
        "address": Address,
        "choice": Choice,
        "clock": Clock,
        "content": Content,
        "decimal": Number,
        "digits": Digits,
        "flag": Flag,
        "frame": Frame,
        "hex": Hex,
        "int": Int,
        "list": List,
        "rate": Rate,
        "station": Station,
        "text": Text,
        "timer": Timer,
        "tuple": Tuple,
    },
)

__all__ = [
    "KINDS",
    "UNSET",
    "Address",
    "Choice",
    "Clock",
    "Content",
    "Digits",
    "Field",
    "FileContent",
    "Flag",
    "Frame",
    "Hex",
    "Int",
    "Kind",
    "List",
    "MakeKind",
    "Number",
    "Rate",
    "Station",
    "Text",
    "Timer",
    "Tuple",
    "Unset",
    "Value",
    "ValueFault",
]
