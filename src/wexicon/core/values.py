"""Kinds of values: what a setting may be, how it is written to a module, and how it is read back.

The rule: `check` makes any value from a file or a call into the one plain form that is compared everywhere;
`encode` and `decode` go from that form to the module's words and back, and lose nothing. A value that carries
control characters never passes. A fault names the value, what is wrong with it, and what is allowed.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from decimal import Decimal, InvalidOperation
from typing import Any

import msgspec

from wexicon.core.text import has_control, nearest, to_bytes
from wexicon.core.tuning import HIGHEST_RATE, Tuning

Value = str | int | bool | Decimal | dict[str, Any]


class ValueFault(ValueError):
    """A value that is not allowed. `why` says what is wrong with it, `allowed` what would be right."""

    def __init__(self, value: object, why: str, allowed: str) -> None:
        super().__init__(f"{value!r} {why}; allowed: {allowed}")
        self.value = value
        self.why = why
        self.allowed = allowed


class Kind(msgspec.Struct, frozen=True, forbid_unknown_fields=True, tag_field="kind"):
    """What all kinds offer. `Value` is the plain form: str, int, bool, Decimal or, for tuples, a dict."""

    def check(self, value: object) -> Value:
        """The plain form of `value`; raises ValueFault where it is not allowed."""
        raise NotImplementedError

    def encode(self, value: Value) -> str:
        """The plain form in the module's words."""
        return str(value)

    def decode(self, text: str) -> Value:
        """The module's words in the plain form; raises ValueFault where they cannot be understood."""
        return self.check(text)

    def allowed(self) -> str:
        """What is allowed, in words."""
        raise NotImplementedError

    def show(self, value: Value) -> str:
        """The plain form as a person reads it, with its unit."""
        return str(value)

    def fault(self, value: object, why: str) -> ValueFault:
        return ValueFault(value, why, self.allowed())


def _in_class(allowed: str) -> re.Pattern[str]:
    """A character class as a lexicon writes it (`A-Z0-9 _-`) as a pattern for one character outside of it."""
    return re.compile("[^" + re.sub(r"([\\\]\[^&~|])", r"\\\1", allowed) + "]")


class Text(Kind, frozen=True, tag="text"):
    """Characters; lengths in bytes once encoded. `characters` is a class such as `A-Za-z0-9 _-`."""

    max_bytes: int = 255
    min_bytes: int = 0
    characters: str = ""

    def check(self, value: object) -> Value:
        if not isinstance(value, str):
            raise self.fault(value, "is not text")
        if has_control(value):
            raise self.fault(value, "holds a control character")
        size = len(to_bytes(value))
        if not self.min_bytes <= size <= self.max_bytes:
            raise self.fault(value, f"is {size} byte{'s' * (size != 1)} long")
        if self.characters and (bad := _in_class(self.characters).search(value)):
            raise self.fault(value, f"holds {bad.group()!r}")
        return value

    def decode(self, text: str) -> Value:
        return text

    def allowed(self) -> str:
        least = f"{self.min_bytes} to {self.max_bytes}" if self.min_bytes else f"up to {self.max_bytes}"
        return f"text of {least} bytes" + (f" from {self.characters}" if self.characters else "")


class Digits(Kind, frozen=True, tag="digits"):
    """Decimal digits whose leading zeros count: a PIN, a serial number. A whole number is not taken for digits."""

    min: int = 1
    max: int = 32

    def check(self, value: object) -> Value:
        if not isinstance(value, str):
            raise self.fault(value, "is not digits in quotes")
        if not re.fullmatch(r"[0-9]*", value):
            raise self.fault(value, "holds something else than digits")
        if not self.min <= len(value) <= self.max:
            raise self.fault(value, f"has {len(value)} digit{'s' * (len(value) != 1)}")
        return value

    def allowed(self) -> str:
        return f"{self.min} digits" if self.min == self.max else f"{self.min} to {self.max} digits"


def _whole(value: object) -> int | None:
    if isinstance(value, bool):
        return None
    if isinstance(value, int):
        return value
    if isinstance(value, str) and re.fullmatch(r"[+-]?[0-9]{1,20}", value.strip()):
        return int(value)
    return None


class Int(Kind, frozen=True, tag="int"):
    """A whole number. `base` 16 and `width` say how the module writes it; `holes` are ranges that are not allowed."""

    min: int | None = None
    max: int | None = None
    step: int = 1
    holes: tuple[tuple[int, int], ...] = ()
    unit: str = ""
    base: int = 10
    width: int = 0

    def check(self, value: object) -> Value:
        number = _whole(value)
        if number is None:
            raise self.fault(value, "is not a whole number")
        if (self.min is not None and number < self.min) or (self.max is not None and number > self.max):
            raise self.fault(value, "is out of range")
        if any(low <= number <= high for low, high in self.holes):
            raise self.fault(value, "falls in a range that is left out")
        if (number - (self.min or 0)) % self.step:
            raise self.fault(value, "falls between two steps")
        return number

    def encode(self, value: Value) -> str:
        assert isinstance(value, int)
        return f"{value:0{self.width}X}" if self.base == 16 else f"{value:0{self.width}d}"

    def decode(self, text: str) -> Value:
        if self.base == 16:
            if not re.fullmatch(r"[0-9A-Fa-f]{1,16}", text.strip()):
                raise self.fault(text, "is not a hexadecimal number")
            return int(text, 16)
        number = _whole(text)
        if number is None:
            raise self.fault(text, "is not a whole number")
        return number

    def allowed(self) -> str:
        return _range("whole number", self.min, self.max, self.step if self.step != 1 else None, self.holes, self.unit)

    def show(self, value: Value) -> str:
        return f"{value} {self.unit}".rstrip()


def _range(what: str, low: object, high: object, step: object, holes: object, unit: str) -> str:
    unit = f" {unit}" if unit else ""
    if low is not None and high is not None:
        text = f"{low} to {high}{unit}"
    elif low is not None:
        text = f"{what} from {low}{unit}"
    elif high is not None:
        text = f"{what} up to {high}{unit}"
    else:
        text = what + (f" in{unit}" if unit else "")
    if step is not None:
        text += f" in steps of {step}"
    if isinstance(holes, tuple) and holes:
        text += " without " + ", ".join(str(a) if a == b else f"{a} to {b}" for a, b in holes)
    return text


def _number(value: object) -> Decimal | None:
    if isinstance(value, bool) or not isinstance(value, (int, float, str, Decimal)):
        return None
    try:
        number = Decimal(str(value).strip())
    except InvalidOperation:
        return None
    return number if number.is_finite() and number.adjusted() < 20 else None


class Number(Kind, frozen=True, tag="decimal"):
    """A decimal number in `unit`. The module writes it multiplied by `scale`, with `places` digits after the point."""

    min: float | None = None
    max: float | None = None
    step: float | None = None
    holes: tuple[tuple[float, float], ...] = ()
    unit: str = ""
    scale: int = 1
    places: int | None = None

    def check(self, value: object) -> Value:
        number = _number(value)
        if number is None:
            raise self.fault(value, "is not a number")
        exact = [Decimal(str(x)) if x is not None else None for x in (self.min, self.max, self.step)]
        low, high, step = exact
        if (low is not None and number < low) or (high is not None and number > high):
            raise self.fault(value, "is out of range")
        if any(Decimal(str(a)) <= number <= Decimal(str(b)) for a, b in self.holes):
            raise self.fault(value, "falls in a range that is left out")
        if step is not None and (number - (low or 0)) % step:
            raise self.fault(value, "falls between two steps")
        scaled = number * self.scale
        if scaled != round(scaled, self.places if self.places is not None else 12):
            raise self.fault(value, "is finer than the module can be told")
        return number.normalize() if number else Decimal(0)

    def encode(self, value: Value) -> str:
        assert isinstance(value, Decimal)
        scaled = value * self.scale
        if self.places is not None:
            return f"{scaled:.{self.places}f}"
        return f"{scaled.normalize():f}" if scaled else "0"

    def decode(self, text: str) -> Value:
        number = _number(text)
        if number is None:
            raise self.fault(text, "is not a number")
        number /= self.scale
        return number.normalize() if number else Decimal(0)

    def allowed(self) -> str:
        return _range("number", self.min, self.max, self.step, self.holes, self.unit)

    def show(self, value: Value) -> str:
        assert isinstance(value, Decimal)
        return f"{value:f} {self.unit}".rstrip()


def _coded(kind: Kind, codes: Mapping[str, str | int], text: str) -> str:
    """The name whose code is `text`; codes are compared without leading zeros and in any case."""

    def plain(code: str | int) -> str:
        return str(code).strip().upper().lstrip("0") or "0"

    for name, code in codes.items():
        if plain(code) == plain(text):
            return name
    raise kind.fault(text, "is a code that the lexicon does not know")


class Choice(Kind, frozen=True, tag="choice"):
    """One of a few names, each with the code that the module uses for it."""

    codes: dict[str, str | int]

    def check(self, value: object) -> Value:
        name = str(value).lower() if isinstance(value, bool) else str(value)
        if name not in self.codes:
            close = nearest(name, self.codes)
            raise self.fault(value, "is none of the choices" + (f" (did you mean {close}?)" if close else ""))
        return name

    def encode(self, value: Value) -> str:
        return str(self.codes[str(value)])

    def decode(self, text: str) -> Value:
        return _coded(self, self.codes, text)

    def allowed(self) -> str:
        return ", ".join(self.codes)


class Flag(Kind, frozen=True, tag="flag"):
    """Yes or no, with the module's words for them."""

    on: str = "1"
    off: str = "0"

    def check(self, value: object) -> Value:
        if not isinstance(value, bool):
            raise self.fault(value, "is neither true nor false")
        return value

    def encode(self, value: Value) -> str:
        return self.on if value else self.off

    def decode(self, text: str) -> Value:
        if text.strip().upper() not in (self.on.upper(), self.off.upper()):
            raise ValueFault(text, "is neither the module's yes nor its no", f"{self.on}, {self.off}")
        return text.strip().upper() == self.on.upper()

    def allowed(self) -> str:
        return "true, false"

    def show(self, value: Value) -> str:
        return "yes" if value else "no"


class Rate(Kind, frozen=True, tag="rate"):
    """A rate in baud; `codes` where the module numbers its rates, `rates` where it writes them out but not any."""

    codes: dict[str, str | int] = {}
    rates: tuple[int, ...] = ()

    def check(self, value: object) -> Value:
        number = _whole(value)
        if number is None:
            raise self.fault(value, "is not a rate in baud")
        known = self.known()
        if (known and number not in known) or not 0 < number <= HIGHEST_RATE:
            raise self.fault(value, "is a rate that the module does not have")
        return number

    def known(self) -> tuple[int, ...]:
        """All the rates the module has, or none where it takes any."""
        return tuple(int(rate) for rate in self.codes) or self.rates

    def encode(self, value: Value) -> str:
        return str(self.codes[str(value)]) if self.codes else str(value)

    def decode(self, text: str) -> Value:
        if self.codes:
            return int(_coded(self, self.codes, text))
        number = _whole(text)
        if number is None:
            raise self.fault(text, "is not a rate in baud")
        return number

    def allowed(self) -> str:
        known = self.known()
        return (", ".join(str(rate) for rate in known) if known else f"1 to {HIGHEST_RATE}") + " baud"

    def show(self, value: Value) -> str:
        return f"{value} baud"


class Frame(Kind, frozen=True, tag="frame"):
    """Data bits, parity and stop bits, such as `8N1`; `codes` where the module numbers them."""

    codes: dict[str, str | int] = {}

    def check(self, value: object) -> Value:
        try:
            frame = Tuning.of(9600, str(value)).frame
        except ValueError:
            raise self.fault(value, "is no frame") from None
        if self.codes and frame not in self.codes:
            raise self.fault(value, "is a frame that the module does not have")
        return frame

    def encode(self, value: Value) -> str:
        return str(self.codes[str(value)]) if self.codes else str(value)

    def decode(self, text: str) -> Value:
        return _coded(self, self.codes, text) if self.codes else self.check(text)

    def allowed(self) -> str:
        return ", ".join(self.codes) or "data bits, parity and stop bits, such as 8N1"


_HEX_RUN = re.compile(r"[Xx]+")


class Address(Kind, frozen=True, tag="address"):
    """A hardware address. `written` and `heard` show how the module wants it and gives it: each X (or x, for small
    letters) is a hexadecimal digit, anything else is itself; `order = "reversed"` where the last byte comes first."""

    written: str = "XX:XX:XX:XX:XX:XX"
    heard: str = ""
    order: str = "as-is"

    def digits(self) -> int:
        """How many hexadecimal digits the address has."""
        return self.written.count("X") + self.written.count("x")

    def check(self, value: object) -> Value:
        bare = re.sub(r"[\s:,.\-_]", "", value) if isinstance(value, str) else ""
        if not re.fullmatch(r"[0-9A-Fa-f]+", bare):
            raise self.fault(value, "is no address")
        if len(bare) != self.digits():
            raise self.fault(value, f"has {len(bare)} hexadecimal digits")
        return ":".join(bare.upper()[at : at + 2] for at in range(0, len(bare), 2))

    def _turned(self, bare: str) -> str:
        if self.order == "reversed":
            return "".join(bare[at : at + 2] for at in range(len(bare) - 2, -1, -2))
        return bare

    def encode(self, value: Value) -> str:
        bare = iter(self._turned(str(value).replace(":", "")))
        return "".join(
            next(bare) if form == "X" else next(bare).lower() if form == "x" else form for form in self.written
        )

    def decode(self, text: str) -> Value:
        form = self.heard or self.written
        widths = [len(run) for run in _HEX_RUN.findall(form)]
        groups = [group for group in re.split(r"[^0-9A-Fa-f]+", text.strip()) if group]
        # Some modules drop leading zeros of each group: the groups of the form say how many there were.
        if len(groups) == len(widths):
            groups = [group.rjust(width, "0") for group, width in zip(groups, widths, strict=True)]
        return self.check(self._turned("".join(groups)))

    def allowed(self) -> str:
        return f"an address of {self.digits()} hexadecimal digits, such as {_example(self.digits())}"


def _example(digits: int) -> str:
    bare = ("02A15C0013F7" * (digits // 12 + 1))[:digits]
    return ":".join(bare[at : at + 2] for at in range(0, digits, 2))


class Hex(Kind, frozen=True, tag="hex"):
    """Bytes written as hexadecimal digits: a key, a network identifier."""

    min_bytes: int = 1
    max_bytes: int = 64

    def check(self, value: object) -> Value:
        bare = re.sub(r"[\s:]", "", value) if isinstance(value, str) else ""
        if not bare or len(bare) % 2 or not re.fullmatch(r"[0-9A-Fa-f]+", bare):
            raise self.fault(value, "is not bytes in hexadecimal")
        if not self.min_bytes <= len(bare) // 2 <= self.max_bytes:
            raise self.fault(value, f"is {len(bare) // 2} bytes long")
        return bare.upper()

    def allowed(self) -> str:
        low, high = self.min_bytes, self.max_bytes
        return f"{low if low == high else f'{low} to {high}'} bytes in hexadecimal"


class Tuple(Kind, frozen=True, tag="tuple"):
    """Several values written together. A single value given stands for the first field; a field that is not given has
    its `default`. Fields called rate, frame, bits, parity and stop say what becomes of the link."""

    fields: tuple[Field, ...]
    separator: str = ","

    def check(self, value: object) -> Value:
        given = value if isinstance(value, Mapping) else {self.fields[0].name: value}
        names = [field.name for field in self.fields]
        for name in given:
            if name not in names:
                raise self.fault(value, f"has no field {name}")
        checked: dict[str, Any] = {}
        for field in self.fields:
            part = given.get(field.name, field.default)
            if part is None:
                raise self.fault(value, f"lacks the field {field.name}")
            try:
                checked[field.name] = field.value.check(part)
            except ValueFault as fault:
                raise ValueFault(fault.value, f"as {field.name} {fault.why}", fault.allowed) from None
        return checked

    def encode(self, value: Value) -> str:
        assert isinstance(value, dict)
        return self.separator.join(field.value.encode(value[field.name]) for field in self.fields)

    def decode(self, text: str) -> Value:
        parts = text.split(self.separator)
        if len(parts) != len(self.fields):
            raise self.fault(text, f"has {len(parts)} fields")
        return {field.name: field.value.decode(part) for field, part in zip(self.fields, parts, strict=True)}

    def allowed(self) -> str:
        return "; ".join(f"{field.name}: {field.value.allowed()}" for field in self.fields)

    def show(self, value: Value) -> str:
        assert isinstance(value, dict)
        first, *others = self.fields
        # What is as it usually is goes without saying.
        parts = [
            f"{field.name} {field.value.show(value[field.name])}"
            for field in others
            if field.default is None or value[field.name] != field.value.check(field.default)
        ]
        return ", ".join([first.value.show(value[first.name]), *parts])


AnyKind = Text | Digits | Int | Number | Choice | Flag | Rate | Frame | Address | Hex | Tuple


class Field(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """One field of a tuple."""

    name: str
    value: AnyKind
    default: str | int | float | bool | None = None


def known_rates(kind: AnyKind) -> tuple[int, ...]:
    """The rates that a setting of this kind can give the link."""
    if isinstance(kind, Rate):
        return kind.known()
    if isinstance(kind, Tuple):
        return tuple(rate for field in kind.fields for rate in known_rates(field.value))
    return ()


def retuned(tuning: Tuning, kind: AnyKind, value: Value, name: str = "") -> Tuning:
    """`tuning` as it becomes when a setting of this kind takes the value: its rate, its frame, or several of them."""
    if isinstance(kind, Rate):
        return msgspec.structs.replace(tuning, rate=int(str(value)))
    if isinstance(kind, Frame):
        return Tuning.of(tuning.rate, str(value))
    if isinstance(kind, Tuple):
        assert isinstance(value, dict)
        for field in kind.fields:
            tuning = retuned(tuning, field.value, value[field.name], field.name)
    elif name == "parity":
        return msgspec.structs.replace(tuning, parity=str(value)[:1].upper())
    elif name in ("stop", "bits"):
        return msgspec.structs.replace(tuning, **{name: int(str(value))})
    return tuning
