"""Kinds of values: what a setting may be, how it is written to a module, and how it is read back."""

from wexicon.core.values.base import Kind, Value, ValueFault
from wexicon.core.values.coded import Choice, Flag, Frame, Rate
from wexicon.core.values.compound import AnyKind, Field, Tuple, known_frames, known_rates, retuned
from wexicon.core.values.numbers import Int, Number, Timer
from wexicon.core.values.texts import Address, Digits, Hex, Text

__all__ = [
    "Address",
    "AnyKind",
    "Choice",
    "Digits",
    "Field",
    "Flag",
    "Frame",
    "Hex",
    "Int",
    "Kind",
    "Number",
    "Rate",
    "Text",
    "Timer",
    "Tuple",
    "Value",
    "ValueFault",
    "known_frames",
    "known_rates",
    "retuned",
]
