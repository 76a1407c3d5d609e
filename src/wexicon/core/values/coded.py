"""Values that a module numbers or names in its own way: choices, yes and no, rates, frames.

The rule: what a person writes is the name; the module's code for it is only ever said and heard.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from types import MappingProxyType

import msgspec

from wexicon.core.text import nearest
from wexicon.core.tuning import HIGHEST_RATE, Tuning
from wexicon.core.values.base import Kind, Value, ValueFault, whole

NONE: Mapping[str, str | int] = MappingProxyType({})
CODES_ARE = ("text", "number", "word")


def _plain(code: str | int, codes_are: str) -> str:
    """A code as it is compared: as it stands; as a number, leading zeros away; as a word, in any case."""
    text = str(code)
    if codes_are == "number":
        return text.lstrip("0") or "0" if text else text
    return text.upper() if codes_are == "word" else text


def _coded(
    kind: Kind, codes: Mapping[str, str | int], codes_are: str, text: str, heard: Mapping[str, str | int] = NONE
) -> str:
    """The name whose code is `text`, exactly unless the lexicon says otherwise; `heard` are names that the module answers
    with another code than it is reported."""
    for name, code in {**codes, **heard}.items():
        if _plain(code, codes_are) == _plain(text, codes_are):
            return name
    raise kind.fault(text, "is a code that the lexicon does not know")


def _colliding(
    codes: Mapping[str, str | int], codes_are: str, heard: Mapping[str, str | int] = NONE
) -> Iterator[tuple[str, str]]:
    """Two names with one code: a reading would be ambiguous."""
    for name in heard:
        if name not in codes:
            yield "heard", f"{name} is not one of {', '.join(codes)}"
    codes = {**codes, **heard}
    if codes_are not in CODES_ARE:
        yield "codes_are", f"{codes_are!r} is not one of {', '.join(CODES_ARE)}"
    seen: dict[str, str] = {}
    for name, code in codes.items():
        plain = _plain(code, codes_are)
        if plain in seen:
            yield "codes", f"{seen[plain]} and {name} have the same code {str(code)!r}"
        seen.setdefault(plain, name)


class ChoiceKind(Kind, frozen=True, tag="choice"):
    """One of a few names, each with the code that the module uses for it. An answer must be the code exactly, unless
    `codes_are` says that it is a `number` (leading zeros do not count) or a `word` (in any case). `heard` are the codes of
    names that the module answers otherwise than it is reported."""

    codes: dict[str, str | int]
    codes_are: str = "text"
    heard: dict[str, str | int] = msgspec.field(default_factory=dict)

    def faults(self) -> Iterator[tuple[str, str]]:
        if not self.codes:
            yield "codes", "there is no choice"
        yield from _colliding(self.codes, self.codes_are, self.heard)

    def check(self, value: object) -> Value:
        name = str(value).lower() if isinstance(value, bool) else str(value)
        if name not in self.codes:
            close = nearest(name, self.codes)
            raise self.fault(
                value, f"is not one of {', '.join(self.codes)}" + (f" (did you mean {close}?)" if close else "")
            )
        return name

    def encode(self, value: Value) -> str:
        return str(self.codes[str(value)])

    def decode(self, text: str) -> Value:
        return _coded(self, self.codes, self.codes_are, text, self.heard)

    def others(self, value: Value) -> Iterator[object]:
        yield from self.codes

    def allowed(self) -> str:
        return ", ".join(self.codes)


_FLAGS = {"true": True, "yes": True, "on": True, "false": False, "no": False, "off": False}


class Flag(Kind, frozen=True, tag="flag"):
    """Yes or no, with the module's words for them; on and off may be written too, and are shown as yes and no."""

    on: str = "1"
    off: str = "0"

    def faults(self) -> Iterator[tuple[str, str]]:
        if self.on == self.off:
            yield "on", f"on and off have the same code {self.on!r}"

    def check(self, value: object) -> Value:
        if isinstance(value, str):
            value = _FLAGS.get(value.strip().lower(), value)
        if not isinstance(value, bool):
            raise self.fault(value, "is neither yes nor no")
        return value

    def encode(self, value: Value) -> str:
        return self.on if value else self.off

    def decode(self, text: str) -> Value:
        if text not in (self.on, self.off):
            raise ValueFault(text, f"is neither {self.on!r} nor {self.off!r}", f"{self.on}, {self.off}")
        return text == self.on

    def others(self, value: Value) -> Iterator[object]:
        yield not value

    def allowed(self) -> str:
        return "yes, no"

    def show(self, value: Value) -> str:
        return "yes" if value else "no"


class Rate(Kind, frozen=True, tag="rate"):
    """A rate in baud; `codes` where the module numbers its rates, `rates` where it writes them out but not any."""

    codes: dict[str, str | int] = msgspec.field(default_factory=dict)
    codes_are: str = "text"
    heard: dict[str, str | int] = msgspec.field(default_factory=dict)
    rates_: tuple[int, ...] = msgspec.field(default=(), name="rates")

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
        return tuple(int(rate) for rate in self.codes) or self.rates_

    def faults(self) -> Iterator[tuple[str, str]]:
        for rate in self.codes:
            if not rate.isascii() or not rate.isdigit() or not 0 < int(rate[:20]) <= HIGHEST_RATE:
                yield "codes", f"{rate} is not a rate in baud"
        for number in self.rates_:
            if not 0 < number <= HIGHEST_RATE:
                yield "rates", f"{number} is not a rate in baud"
        yield from _colliding(self.codes, self.codes_are, self.heard)

    def rates(self) -> tuple[int, ...]:
        return self.known()

    def apply_to(self, tuning: Tuning, value: Value) -> Tuning:
        return msgspec.structs.replace(tuning, rate=int(str(value)))

    def from_link(self, tuning: Tuning) -> Value | None:
        return tuning.rate

    def encode(self, value: Value) -> str:
        return str(self.codes[str(value)]) if self.codes else str(value)

    def decode(self, text: str) -> Value:
        if self.codes:
            return int(_coded(self, self.codes, self.codes_are, text, self.heard))
        number = whole(text)
        if number is None:
            raise self.fault(text, "is not a rate in baud")
        return number

    def allowed(self) -> str:
        known = self.known()
        return (", ".join(str(rate) for rate in known) if known else f"1 to {HIGHEST_RATE}") + " baud"

    def show(self, value: Value) -> str:
        return f"{value} baud"


class FrameKind(Kind, frozen=True, tag="frame"):
    """Data bits, parity and stop bits, such as `8N1`; `codes` where the module numbers them."""

    codes: dict[str, str | int] = msgspec.field(default_factory=dict)
    codes_are: str = "text"

    def faults(self) -> Iterator[tuple[str, str]]:
        for frame in self.codes:
            try:
                Tuning.of(9600, frame)
            except ValueError as fault:
                yield "codes", str(fault)
        yield from _colliding(self.codes, self.codes_are)

    def frames(self) -> list[str]:
        return list(self.codes)

    def apply_to(self, tuning: Tuning, value: Value) -> Tuning:
        return Tuning.of(tuning.rate, str(value), tuning.station)

    def from_link(self, tuning: Tuning) -> Value | None:
        return tuning.frame

    def check(self, value: object) -> Value:
        try:
            frame = Tuning.of(9600, str(value)).frame
        except ValueError:
            raise self.fault(value, "is not a valid frame") from None
        if self.codes and frame not in self.codes:
            raise self.fault(value, "is a frame that the module does not have")
        return frame

    def encode(self, value: Value) -> str:
        return str(self.codes[str(value)]) if self.codes else str(value)

    def decode(self, text: str) -> Value:
        return _coded(self, self.codes, self.codes_are, text) if self.codes else self.check(text)

    def allowed(self) -> str:
        return ", ".join(self.codes) or "data bits, parity and stop bits, such as 8N1"
