"""The fields of frames and lines: numbers and text in so many bytes or digits.

    u8 u16 u24 u32      whole numbers without a sign, the high byte first; i8 i16 i24 i32 with one (two's complement)
    u16le, i32le ...    the same with the low byte first
    digits(2), hex(2)   a number as so many decimal or hexadecimal digits
    chars(12), chars    text of so many bytes, the rest of them zero; text up to the end
    chars(u8)           text behind the number of its bytes

The rule: a field takes as many bytes as its form says, and a number that does not fit is refused, never cut.
"""

from __future__ import annotations

import re
from functools import cache
from typing import cast

import msgspec

from wexicon.core.text import to_bytes, to_text

LONGEST_TEXT = 255
_NUMBER = re.compile(r"([ui])(8|16|24|32)(le)?")
_SIZED = re.compile(r"(digits|hex)\(([1-9])\)")
_COUNTED = re.compile(r"chars\((u[0-9]+(?:le)?)\)")
_CHARS = re.compile(r"chars(?:\(([0-9]{1,3})\))?")
# The numbers of bytes that patterns and filters know by name.
NUMBERS = tuple(
    f"{sign}{bits}{order}" for sign in "ui" for bits in (8, 16, 24, 32) for order in ("", "le") if bits > 8 or not order
)


class FieldFault(ValueError):
    """A value that does not fit its field."""


class NumberForm(msgspec.Struct, frozen=True):
    """A number: `size` in bytes; `base` 10 or 16 if it is written in digits, 0 in bytes."""

    form: str
    size: int
    signed: bool = False
    order: str = "big"
    base: int = 0

    def put(self, number: int) -> bytes:
        """The bytes of the field. Raises FieldFault."""
        try:
            if not self.base:
                return number.to_bytes(self.size, self.order, signed=self.signed)  # type: ignore[arg-type]
        except OverflowError:
            raise FieldFault(f"{number} does not fit {self.form}") from None
        text = f"{number:0{self.size}X}" if self.base == 16 else f"{number:0{self.size}d}"
        if number < 0 or len(text) > self.size:
            raise FieldFault(f"{number} does not fit {self.form}")
        return text.encode()

    def take(self, data: bytes) -> int | None:
        """The number in the bytes of the field; None if there is none."""
        if len(data) != self.size:
            return None
        if not self.base:
            return int.from_bytes(data, self.order, signed=self.signed)  # type: ignore[arg-type]
        return int(data, self.base) if re.fullmatch(rb"[0-9A-Fa-f]+" if self.base == 16 else rb"[0-9]+", data) else None

    def hex_of(self, text: str) -> str:
        """A value in digits as the hexadecimal digits of the field. Raises FieldFault."""
        if not re.fullmatch(r"[+-]?[0-9]{1,12}", text):
            raise FieldFault(f"{text} is not a whole number")
        return self.put(int(text)).hex().upper()

    def of_hex(self, digits: str) -> int:
        """The number in the hexadecimal digits of the field."""
        return int.from_bytes(bytes.fromhex(digits), self.order, signed=self.signed)  # type: ignore[arg-type]

    def run(self) -> str:
        """An expression for the field in hexadecimal digits."""
        return f"[0-9A-F]{{{2 * self.size}}}"


class Chars(msgspec.Struct, frozen=True):
    """Text of `size` bytes, filled with zeros; 0: as many as there are."""

    form: str
    size: int

    def hex_of(self, text: str) -> str:
        """A text as the hexadecimal digits of the field. Raises FieldFault."""
        data = to_bytes(text)
        if b"\0" in data:
            raise FieldFault("a zero byte would end the text")
        if self.size and len(data) > self.size:
            raise FieldFault(f"{len(data)} bytes do not fit {self.form}")
        return data.ljust(self.size, b"\0").hex().upper()

    def of_hex(self, digits: str) -> str:
        """The text in the hexadecimal digits of the field, up to the first zero byte."""
        return to_text(bytes.fromhex(digits).partition(b"\0")[0])

    def run(self) -> str:
        """An expression for the field in hexadecimal digits."""
        return f"(?:[0-9A-F]{{2}}){{{self.size}}}" if self.size else "(?:[0-9A-F]{2})*"


class Counted(msgspec.Struct, frozen=True):
    """Text behind the number of its bytes."""

    form: str
    length: NumberForm

    def hex_of(self, text: str) -> str:
        """A text as the hexadecimal digits of the field. Raises FieldFault."""
        data = to_bytes(text)
        return (self.length.put(len(data)) + data).hex().upper()

    def of_hex(self, digits: str) -> str:
        """The text in the hexadecimal digits of the field."""
        return to_text(bytes.fromhex(digits[2 * self.length.size :]))

    def run(self) -> str:
        """An expression for the field in hexadecimal digits."""
        return "(?:[0-9A-F]{2})+"

    def end_in(self, digits: str, at: int) -> int:
        """Where the field that begins at `at` ends among hexadecimal digits; -1 if it is not whole."""
        start = at + 2 * self.length.size
        if not re.fullmatch("[0-9A-F]+", length := digits[at:start]) or len(length) < 2 * self.length.size:
            return -1
        end = start + 2 * self.length.of_hex(length)
        return end if end <= len(digits) and re.fullmatch("[0-9A-F]*", digits[start:end]) else -1


Field = NumberForm | Chars | Counted


@cache
def field(form: str) -> Field | None:
    """The field of a form; None if there is no such form."""
    if found := _NUMBER.fullmatch(form):
        order = "little" if found[3] else "big"
        return NumberForm(form, int(found[2]) // 8, found[1] == "i", order) if form in NUMBERS else None
    if found := _SIZED.fullmatch(form):
        return NumberForm(form, int(found[2]), base=16 if found[1] == "hex" else 10)
    if (found := _CHARS.fullmatch(form)) and int(found[1] or 0) <= LONGEST_TEXT:
        return Chars(form, int(found[1] or 0))
    if (found := _COUNTED.fullmatch(form)) and found[1] in NUMBERS:
        return Counted(form, cast(NumberForm, field(found[1])))
    return None
