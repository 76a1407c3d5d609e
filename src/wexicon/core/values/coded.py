"""Values that a module numbers or names in its own way: choices, yes and no, rates, frames.

The rule: what a person writes is the name; the module's code for it is only ever said and heard.
"""

from __future__ import annotations

from collections.abc import Mapping

import msgspec

from wexicon.core.text import nearest
from wexicon.core.tuning import HIGHEST_RATE, Tuning
from wexicon.core.values.base import Kind, Value, ValueFault, whole


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

    codes: dict[str, str | int] = msgspec.field(default_factory=dict)
    rates: tuple[int, ...] = ()

    def check(self, value: object) -> Value:
        number = whole(value)
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
        number = whole(text)
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

    codes: dict[str, str | int] = msgspec.field(default_factory=dict)

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
