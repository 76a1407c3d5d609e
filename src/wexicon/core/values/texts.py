"""Values that are written as they are: text, digits whose zeros count, bytes in hexadecimal, hardware addresses, files by
digest.

The rule: lengths are counted in bytes as the module counts them; a value that carries control characters never passes. A file
is compared by the digest that the module tells, and carries its bytes where they are ours.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import cache
from hashlib import sha1, sha256
from zlib import crc32

from wexicon.core.standards.charsets import CharsetFault, gsm7_codes, gsm7_from_hex, gsm7_hex, ucs2, ucs2_text
from wexicon.core.text import counted, has_control, to_bytes, to_text
from wexicon.core.values.base import Kind, Value

CHARSETS = ("utf-8", "ucs2", "gsm7")
ORDERS = ("as-is", "reversed")


def _in_class(allowed: str) -> re.Pattern[str]:
    """A character class as a lexicon writes it (`A-Z0-9 _-`) as a pattern for one character outside of it."""
    quoted = re.sub(r"([\\\]\[^&~|])", r"\\\1", allowed)
    # Two hyphens would be taken for the difference of two classes, which the language may have one day.
    return re.compile("[^" + re.sub(r"-{2,}", r"\\-", quoted) + "]")


class Text(Kind, frozen=True, tag="text"):
    """Characters; lengths in bytes once encoded. `characters` is a class such as `A-Za-z0-9 _-`. `charset` is how the module
    writes them: utf-8 as they are; ucs2 in hexadecimal, gsm7 packed and in hexadecimal (3GPP TS 23.038)."""

    max_bytes: int = 255
    min_bytes: int = 0
    characters: str = ""
    charset: str = "utf-8"

    def faults(self) -> Iterator[tuple[str, str]]:
        if not 0 <= self.min_bytes <= self.max_bytes:
            yield "min_bytes", f"{self.min_bytes} is not from 0 to max_bytes, {self.max_bytes}"
        if self.charset not in CHARSETS:
            yield "charset", f"{self.charset!r} is not one of {', '.join(CHARSETS)}"
        try:
            _in_class(self.characters or "-")
        except re.error as fault:
            yield "characters", f"{self.characters!r} is not a class of characters: {fault}"

    @property
    def free(self) -> bool:
        return True

    def check(self, value: object) -> Value:
        if not isinstance(value, str):
            raise self.fault(value, "is not text")
        if has_control(value):
            raise self.fault(value, "holds a control character")
        try:
            size = len(
                gsm7_codes(value)
                if self.charset == "gsm7"
                else ucs2(value)
                if self.charset == "ucs2"
                else to_bytes(value)
            )
        except CharsetFault as fault:
            raise self.fault(value, f"cannot be written: {fault}") from None
        if not self.min_bytes <= size <= self.max_bytes:
            raise self.fault(value, f"is {size} byte{'s' * (size != 1)} long")
        if self.characters and (bad := _in_class(self.characters).search(value)):
            raise self.fault(value, f"holds {bad.group()!r}")
        return value

    def encode(self, value: Value) -> str:
        if self.charset == "ucs2":
            return ucs2(str(value)).hex().upper()
        return gsm7_hex(str(value)) if self.charset == "gsm7" else str(value)

    def decode(self, text: str) -> Value:
        if self.charset == "utf-8":
            return text
        try:
            return ucs2_text(bytes.fromhex(text)) if self.charset == "ucs2" else gsm7_from_hex(text)
        except ValueError:
            raise self.fault(text, f"is not {self.charset} in hexadecimal") from None

    def allowed(self) -> str:
        least = f"{self.min_bytes} to {self.max_bytes}" if self.min_bytes else f"up to {self.max_bytes}"
        return f"text of {least} bytes" + (f" from {self.characters}" if self.characters else "")


class Digits(Kind, frozen=True, tag="digits"):
    """Decimal digits whose leading zeros count: a PIN, a serial number. A whole number is not taken for digits."""

    min: int = 1
    max: int = 32

    def faults(self) -> Iterator[tuple[str, str]]:
        if not 0 <= self.min <= self.max:
            yield "min", f"{self.min} is not from 0 to max, {self.max}"

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


class Hex(Kind, frozen=True, tag="hex"):
    """Bytes written as hexadecimal digits: a key, a network identifier."""

    min_bytes: int = 1
    max_bytes: int = 64

    def faults(self) -> Iterator[tuple[str, str]]:
        if not 0 < self.min_bytes <= self.max_bytes:
            yield "min_bytes", f"{self.min_bytes} is not from 1 to max_bytes, {self.max_bytes}"

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


_HEX_RUN = re.compile(r"[Xx]+")


class Address(Kind, frozen=True, tag="address"):
    """A hardware address. `written` and `heard` show how the module wants it and gives it: each X (or x, for small
    letters) is a hexadecimal digit, anything else is itself; `order = "reversed"` where the last byte comes first."""

    written: str = "XX:XX:XX:XX:XX:XX"
    heard: str = ""
    order: str = "as-is"

    def faults(self) -> Iterator[tuple[str, str]]:
        if self.order not in ORDERS:
            yield "order", f"{self.order!r} is not one of {', '.join(ORDERS)}"
        if not self.digits():
            yield "written", f"{self.written!r} has no X for a digit"
        if self.order == "reversed" and self.digits() % 2:
            yield "written", "an address in reversed order has whole bytes"

    def digits(self) -> int:
        """How many hexadecimal digits the address has."""
        return self.written.count("X") + self.written.count("x")

    def check(self, value: object) -> Value:
        bare = re.sub(r"[\s:,.\-_]", "", value) if isinstance(value, str) else ""
        if not re.fullmatch(r"[0-9A-Fa-f]+", bare):
            raise self.fault(value, "is not an address")
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
        found = re.fullmatch(_address_form(form), text.strip(" "))
        if found is None:
            raise self.fault(text, f"is not an address of the form {form}")
        widths = map(len, _HEX_RUN.findall(form))
        # Some modules drop leading zeros of each group: the groups of the form say how many there were.
        groups = [group.rjust(width, "0") for group, width in zip(found.groups(), widths, strict=True)]
        return self.check(self._turned("".join(groups)))

    def allowed(self) -> str:
        return f"an address of {self.digits()} hexadecimal digits, such as {_example(self.digits())}"


@cache
def _address_form(form: str) -> str:
    """An expression for an address as a lexicon writes it: its separators as they are, and groups of digits, of which those
    between separators may lack leading zeros."""
    runs = len(_HEX_RUN.findall(form))
    least = "1" if runs > 1 else ""
    return "".join(
        f"([0-9A-Fa-f]{{{least},{len(part)}}})"
        if least and part[0] in "Xx"
        else f"([0-9A-Fa-f]{{{len(part)}}})"
        if part[0] in "Xx"
        else re.escape(part)
        for part in re.findall(r"[Xx]+|[^Xx]+", form)
    )


def _example(digits: int) -> str:
    bare = ("02A15C0013F7" * (digits // 12 + 1))[:digits]
    return ":".join(bare[at : at + 2] for at in range(0, digits, 2))


DIGESTS = {
    "sha256": lambda data: sha256(data).hexdigest(),
    "sha1": lambda data: sha1(data, usedforsecurity=False).hexdigest(),
    "crc32": lambda data: f"{crc32(data):08x}",
}
# How many digits of a digest are shown.
SHOWN = 16


class FileContent(str):
    """A digest in capitals; `data` are the bytes, None where only the module has them."""

    data: bytes | None = None


class Content(Kind, frozen=True, tag="content"):
    """A file of at most `max_bytes`, known by its `digest`: sha256, sha1 or crc32, in hexadecimal."""

    digest: str = "sha256"
    max_bytes: int = 65_536

    def faults(self) -> Iterator[tuple[str, str]]:
        if self.digest not in DIGESTS:
            yield "digest", f"{self.digest!r} is not one of {', '.join(DIGESTS)}"
        if not 0 < self.max_bytes <= 1_048_576:
            yield "max_bytes", f"{self.max_bytes} is not from 1 to 1048576"

    @property
    def free(self) -> bool:
        return True

    def check(self, value: object) -> Value:
        if isinstance(value, FileContent):
            return value
        if not isinstance(value, str) or not value:
            raise self.fault(value if not isinstance(value, str) else "", "is not the content of a file")
        data = to_bytes(value)
        if len(data) > self.max_bytes:
            raise self.fault(f"a file of {counted(len(data), 'byte')}", "is too long")
        made = FileContent(DIGESTS[self.digest](data).upper())
        made.data = data
        return made

    def encode(self, value: Value) -> str:
        data = getattr(value, "data", None)
        if data is None:
            raise self.fault(self.show(value), "is a file whose content is not known here")
        return to_text(data)

    def decode(self, text: str) -> Value:
        size = len(DIGESTS[self.digest](b"")) if self.digest in DIGESTS else 0
        if not re.fullmatch(rf"[0-9A-Fa-f]{{{size}}}", text):
            raise self.fault(text, f"is no {self.digest}")
        return FileContent(text.upper())

    def allowed(self) -> str:
        return f"a file of 1 to {counted(self.max_bytes, 'byte')}"

    def show(self, value: Value) -> str:
        return f"{self.digest} {str(value)[:SHOWN]}"
