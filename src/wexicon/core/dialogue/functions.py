"""The functions that an expression may call on texts, numbers and lists; those of the trade are in `trade_functions`.

The rule: a function takes and returns numbers, texts and lists; it reads nothing else, ends at once, and raises ValueError for
an argument that it cannot use. The package entry point `wexicon.functions` adds more.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from decimal import Decimal, DecimalException

from wexicon.core.dialogue.trade_functions import FORMULAS
from wexicon.core.registry import Registry
from wexicon.core.text import to_bytes, to_text

Number = int | Decimal


def length(value: str | Sequence[object]) -> int:
    """Bytes of a text (as it is sent), or parts of a list."""
    return len(to_bytes(value)) if isinstance(value, str) else len(value)


def ramp(size: object) -> str:
    """Bytes that count up from 0, and from 0 again after 255, to have every value in a payload: at most 65,536."""
    if not isinstance(size, int) or not 0 <= size <= 65_536:
        raise ValueError(f"{size} is not a number of bytes from 0 to 65536")
    return to_text(bytes(range(256)) * (size // 256) + bytes(range(size % 256)))


def count(values: Sequence[object], one: object) -> int:
    """How often `one` is among the values, or in a text."""
    return values.count(one)


def number(value: object) -> Number:
    """The number that a text of at most 40 characters writes in decimal."""
    text = str(value).strip()
    if len(text) > 40:
        raise ValueError("is too long for a number")
    try:
        return int(text)
    except ValueError:
        try:
            found = Decimal(text)
        except DecimalException:
            raise ValueError(f"{text!r} is not a number") from None
        if not found.is_finite():
            raise ValueError("is not a number") from None
        return found


def hex_number(text: object) -> int:
    """The number that a text of at most 40 characters writes in hexadecimal."""
    digits = str(text).strip()
    if len(digits) > 40:
        raise ValueError("is too long for a number")
    try:
        return int(digits, 16)
    except ValueError:
        raise ValueError(f"{digits!r} is not hexadecimal") from None


def as_text(value: object) -> str:
    """The value as text."""
    return str(value)


def upper(text: object) -> str:
    """The text in capitals."""
    return str(text).upper()


def lower(text: object) -> str:
    """The text in small letters."""
    return str(text).lower()


def starts(text: object, start: object) -> bool:
    """Whether the text begins with `start`."""
    return str(text).startswith(str(start))


def ends(text: object, end: object) -> bool:
    """Whether the text ends with `end`."""
    return str(text).endswith(str(end))


def by_lexicon(setting: object, value: object) -> object:
    """The value behind a module's code, or the code of a value, by a setting's kind: `decoded("timer", text)`. A dialogue with
    a lexicon has its own."""
    raise ValueError("there is no lexicon that knows this setting")


def since(mark: object) -> object:
    """How many seconds ago `mark NAME` kept the time. A dialogue has its own, with its clock."""
    raise ValueError("there is no clock here")


def pin(name: object) -> bool:
    """Whether a pin of the module is on, by the fixture. A dialogue with a lexicon has its own."""
    raise ValueError("there is no fixture here that reads pins")


def split(text: object, by: object = ",") -> list[str]:
    """The parts of a text between separators."""
    if not str(by):
        raise ValueError("the separator is empty")
    return str(text).split(str(by))


def first(values: Sequence[object]) -> object:
    """The first part of a list or text."""
    return values[0]


def last(values: Sequence[object]) -> object:
    """The last part of a list or text."""
    return values[-1]


def rounded(value: Number, places: int = 0) -> Number:
    """Rounded to decimal places, half to even."""
    nearest = round(Decimal(value), places)
    return int(nearest) if places <= 0 else nearest


FUNCTIONS: Registry[Callable[..., object]] = Registry(
    "wexicon.functions",
    {
        "length": length,
        "ramp": ramp,
        "count": count,
        "number": number,
        "hex_number": hex_number,
        "text": as_text,
        "upper": upper,
        "lower": lower,
        "starts": starts,
        "ends": ends,
        "decoded": by_lexicon,
        "encoded": by_lexicon,
        "since": since,
        "pin": pin,
        "split": split,
        "first": first,
        "last": last,
        "min": min,
        "max": max,
        "sum": sum,
        "abs": abs,
        "round": rounded,
        **FORMULAS,
    },
)
