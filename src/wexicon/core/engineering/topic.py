"""A topic of `wexicon calc`: a function from named quantities (`125kHz`, `4.7k`, `60s`) to an answer with its steps.

The rule: a quantity is a number in its base unit; one of another kind is refused; what is shown has four significant digits.
An argument is checked before anything is worked out, and a wrong one is answered with the nearest right one. The formulas are
in files of their own, and can be called without a topic.
"""

from __future__ import annotations

import inspect
import re
from collections.abc import Callable, Mapping, Sequence
from itertools import product
from math import floor, isfinite, log10
from typing import Annotated, Any, NamedTuple, get_args, get_origin, get_type_hints

import msgspec

from wexicon.core.text import meant, spoken

_PREFIXES = {"p": 1e-12, "n": 1e-9, "u": 1e-6, "µ": 1e-6, "m": 1e-3, "k": 1e3, "M": 1e6, "G": 1e9}
# Units that take prefixes, and other ways to write them.
_PREFIXED = {
    "Hz": ("Hz",),
    "V": ("V",),
    "A": ("A",),
    "Ω": ("Ω", "ohm", "R"),
    "F": ("F",),
    "W": ("W",),
    "Ah": ("Ah",),
    "m": ("m",),
    "bit/s": ("bit/s",),
}
_TIMES = {"us": 1e-6, "µs": 1e-6, "ms": 1e-3, "s": 1.0, "min": 60.0, "m": 60.0, "h": 3600.0, "d": 86_400.0}
_NUMBER = re.compile(r"([+-]?(?:\d+\.?\d*|\.\d+)(?:[eE][+-]?\d{1,3})?)\s*(.*)", re.ASCII | re.DOTALL)
# A resistor with its prefix in place of the point: 4k7.
_INNER = re.compile(r"(\d+)([RkM])(\d+)", re.ASCII)


def parsed(text: str, unit: str) -> float:
    """The number in a text, in the base unit. Raises ValueError with what is allowed."""
    text = text.strip()
    if unit == "Ω" and (inner := _INNER.fullmatch(text)):
        return float(f"{inner[1]}.{inner[3]}") * _PREFIXES.get(inner[2], 1.0)
    found = _NUMBER.fullmatch(text)
    if not found or len(text) > 40:
        raise ValueError(f"{text[:40]!r} is not a number" + (f" with a unit, such as {example(unit)}" if unit else ""))
    factor = _factor(found[2].strip(), unit)
    if factor is None:
        raise ValueError(f"{found[2].strip()[:20]!r} is not a unit here; write {example(unit)}")
    value = float(found[1]) * factor
    if not isfinite(value):
        raise ValueError(f"{text!r} is too large")
    return value


def _factor(written: str, unit: str) -> float | None:
    """What a written unit multiplies the number by; None if it is not one of this kind."""
    if not written or written == unit:
        return 1.0
    if unit == "s":
        return _TIMES.get(written)
    if unit == "m":
        return {"mm": 1e-3, "cm": 1e-2, "km": 1e3, "k": 1e3}.get(written)
    if unit in _PREFIXED:
        for name in (*_PREFIXED[unit], ""):
            if written.endswith(name) and (prefix := written.removesuffix(name) if name else written) in _PREFIXES:
                return _PREFIXES[prefix]
            if name and written == name:
                return 1.0
    return None


def example(unit: str) -> str:
    """How a quantity of this unit may be written."""
    written = {"s": "30s or 5min", "Hz": "125kHz", "Ω": "4.7k", "m": "2km", "V": "3.3V", "A": "20mA", "F": "100uF"}
    return written.get(unit, f"a number of {unit}" if unit else "a number")


def shown(value: float | int | str | bool, unit: str = "") -> str:
    """A quantity as a person reads it."""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, str):
        return value
    if unit == "s":
        return _time(value)
    if unit in _PREFIXED and value:
        return _prefixed(value, unit)
    return f"{value if isinstance(value, int) else digits(value)} {unit}".rstrip()


def digits(value: float, count: int = 4) -> str:
    """A number with `count` significant digits, without trailing zeros."""
    if not value or not isfinite(value):
        return f"{value:g}"
    places = count - 1 - floor(log10(abs(value)))
    if places <= 0:
        return f"{value:.0f}"
    if places > 9:
        return f"{value:.{count - 1}e}"
    text = f"{value:.{places}f}"
    return text.rstrip("0").rstrip(".")


def _prefixed(value: float, unit: str) -> str:
    size = abs(value)
    steps = [("", 1.0), ("k", 1e3), ("M", 1e6), ("G", 1e9)] if size >= 1 else []
    steps = steps or [("p", 1e-12), ("n", 1e-9), ("µ", 1e-6), ("m", 1e-3)]
    if unit == "m":
        steps = [("", 1.0), ("k", 1e3)] if size >= 1 else [("m", 1e-3), ("c", 1e-2)]
    if unit == "Ah" and size < 1:
        steps = [("m", 1e-3)]
    prefix, factor = next((one for one in reversed(steps) if size >= one[1] * 0.99995), steps[0])
    return f"{digits(value / factor, 6 if unit == 'Hz' else 4)} {prefix}{unit}"


def _time(seconds: float) -> str:
    """A time: short ones with four digits, long ones as people say them, with the seconds."""
    size = abs(seconds)
    if size < 60:
        for factor, unit in ((1.0, "s"), (1e-3, "ms"), (1e-6, "µs")):
            if size >= factor * 0.99995:
                return f"{digits(seconds / factor)} {unit}"
        return f"{digits(seconds / 1e-6)} µs" if seconds else "0 s"
    if size >= 2 * 86_400:
        days = seconds / 86_400
        return f"{digits(days / 365.25)} years" if days >= 2 * 365.25 else f"{digits(days)} days"
    return f"{spoken(seconds)} ({digits(seconds, 7)} s)"


Plain = float | int | str | bool
# No more answers are worked out in one call.
MOST_ANSWERS = 10_000


class CalcFault(ValueError):
    """An argument that is wrong; `hint` says what is right."""

    def __init__(self, what: str, hint: str = "") -> None:
        super().__init__(what)
        self.hint = hint


class Arg(msgspec.Struct, frozen=True):
    """What an argument means, its unit, its range, or its choices. `several` takes all values of a list at once."""

    meaning: str
    unit: str = ""
    low: float | None = None
    high: float | None = None
    choices: tuple[str, ...] = ()
    several: bool = False


class Quantity(NamedTuple):
    """One result: its value in the base unit, the unit, and the text for people."""

    value: Plain | None
    unit: str
    text: str


class Answer:
    """What a topic works out: named quantities, the steps that lead there, notes, and rows of a table."""

    def __init__(self) -> None:
        self.results: dict[str, Quantity] = {}
        self.steps: list[str] = []
        self.notes: list[str] = []
        self.columns: tuple[str, ...] = ()
        self.rows: list[tuple[str, ...]] = []

    def give(self, name: str, value: Plain | None, unit: str = "", text: str = "") -> None:
        """A result; `text` is how it is shown, if not as usual."""
        self.results[name] = Quantity(value, unit, text or ("none" if value is None else shown(value, unit)))

    def step(self, text: str) -> None:
        """A step, with its numbers."""
        self.steps.append(text)

    def note(self, text: str) -> None:
        """What should be known besides."""
        self.notes.append(text)

    def table(self, columns: Sequence[str], rows: Sequence[Sequence[str]]) -> None:
        """Rows of a table that belongs to the answer."""
        self.columns, self.rows = tuple(columns), [tuple(row) for row in rows]


class Worked(NamedTuple):
    """One answer, and the arguments that vary with their values as text."""

    given: dict[str, str]
    numbers: dict[str, float]
    answer: Answer


class Topic:
    """One topic. `examples` are lines of arguments that a person may type; `plot` are the results that are drawn."""

    def __init__(
        self,
        name: str,
        group: str,
        function: Callable[..., Answer],
        examples: Sequence[str],
        plot: Sequence[str] = (),
    ) -> None:
        self.name, self.group, self.function, self.examples, self.plot = name, group, function, tuple(examples), plot
        self.about = inspect.cleandoc(function.__doc__ or "")
        hints = get_type_hints(function, include_extras=True)
        self.args: dict[str, tuple[type, Arg]] = {}
        self.defaults: dict[str, Any] = {}
        for key, parameter in inspect.signature(function).parameters.items():
            if get_origin(hints[key]) is Annotated:
                kind, arg = get_args(hints[key])
                self.args[key] = (kind, arg)
                if parameter.default is not inspect.Parameter.empty:
                    self.defaults[key] = parameter.default

    @property
    def title(self) -> str:
        """What it is, without the source."""
        whole = " ".join(self.about.split("\n\n")[0].split())
        return whole.partition(" (")[0].rstrip(".") + "."

    def work(self, given: Mapping[str, str]) -> list[Worked]:
        """The answers for arguments as they are typed: one, or one for each combination of lists and ranges. Raises
        CalcFault."""
        self._check_names(given)
        values = {name: self._values(name, text) for name, text in given.items()}
        varying = [name for name, found in values.items() if len(found) > 1 and not self.args[name][1].several]
        size = 1
        for name in varying:
            size *= len(values[name])
        if size > MOST_ANSWERS:
            raise CalcFault(f"these are {size} answers; at most {MOST_ANSWERS} are worked out", "Use fewer values.")
        made = []
        for some in product(*(values[name] for name in varying)):
            chosen = dict(zip(varying, some, strict=True))
            arguments = {
                name: found if self.args[name][1].several else chosen.get(name, found[0])
                for name, found in values.items()
            }
            told = {name: shown(one, self.args[name][1].unit) for name, one in chosen.items()}
            numbers = {name: float(one) for name, one in chosen.items() if isinstance(one, (int, float))}
            try:
                answer = self.function(**arguments)
            except (ValueError, ArithmeticError) as fault:
                if not varying or isinstance(fault, CalcFault):
                    raise fault if isinstance(fault, CalcFault) else CalcFault(str(fault)) from None
                answer = Answer()
                answer.note(", ".join(f"{name} {text}" for name, text in told.items()) + f": {fault}")
            made.append(Worked(told, numbers, answer))
        return made

    def _check_names(self, given: Mapping[str, str]) -> None:
        for name in given:
            if name not in self.args:
                raise CalcFault(f"{self.name} has no argument {name}", meant(name, self.args))
        missing = [name for name in self.args if name not in given and name not in self.defaults]
        if missing:
            raise CalcFault(f"{self.name} needs {', '.join(missing)}", f"For example: {self.examples[0]}")

    def _values(self, name: str, text: str) -> list[Any]:
        kind, arg = self.args[name]
        if kind is str and not arg.choices and not arg.several:
            return [text]
        made: list[Any] = []
        for part in text.split(","):
            made += self._range(name, part) if ".." in part and kind is not str else [self._one(name, part)]
        return made

    def _range(self, name: str, text: str) -> list[Any]:
        """The values of a range: `7..12` is every whole number, `1min..24h/50` are fifty values, evenly apart, or by an even
        factor if the last is a hundred times the first or more."""
        kind, arg = self.args[name]
        ends, _, count = text.partition("/")
        low, high = (float(self._one(name, end)) for end in ends.split("..", 1))
        if not count:
            if kind is not int and (low != int(low) or high != int(high) or arg.unit):
                raise CalcFault(f"{name}: say how many values, such as {ends}/20")
            size = int(high - low) + 1
        else:
            try:
                size = int(count)
            except ValueError:
                raise CalcFault(f"{name}: {count[:20]!r} is not a number of values") from None
        if not 2 <= size <= MOST_ANSWERS or high <= low:
            raise CalcFault(f"{name}: {text[:40]} is not a range of 2 to {MOST_ANSWERS} rising values")
        if low > 0 and high / low >= 100 and count:
            made = [low * (high / low) ** (at / (size - 1)) for at in range(size)]
        else:
            made = [low + (high - low) * at / (size - 1) for at in range(size)]
        return [round(one) for one in made] if kind is int else made

    def _one(self, name: str, text: str) -> Any:
        kind, arg = self.args[name]
        text = text.strip()
        if arg.choices:
            if text not in arg.choices:
                raise CalcFault(
                    f"{name}: {text[:40]!r} is not one of {', '.join(arg.choices)}", meant(text, arg.choices)
                )
            return text
        if kind is str:
            return text
        if kind is bool:
            if text not in ("yes", "no"):
                raise CalcFault(f"{name}: {text[:40]!r} is neither yes nor no")
            return text == "yes"
        try:
            value: float = parsed(text, arg.unit)
        except ValueError as fault:
            raise CalcFault(f"{name}: {fault}") from None
        if kind is int and value != int(value):
            raise CalcFault(f"{name}: {text} is not a whole number", f"The nearest is {round(value)}.")
        for limit, wrong, word in (
            (arg.low, value < (arg.low or 0), "below"),
            (arg.high, value > (arg.high or 0), "above"),
        ):
            if limit is not None and wrong:
                bound = shown(int(limit) if kind is int else limit, arg.unit)
                raise CalcFault(f"{name}: {text} is {word} {bound}", f"The nearest that is allowed is {bound}.")
        return int(value) if kind is int else value
