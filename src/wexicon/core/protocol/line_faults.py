"""Faults that are put into a line between a host and its module, to try the host's error handling: a delay, lost or changed
bytes, another answer.

    delay 200ms after AT+SAVE        what the module sends after such a line comes that much later
    loss 0.5% from module            that share of bytes is lost; `from host`; without it, both ways
    noise 0.1%                       that share of bytes has a bit changed
    answer "ERR 3" to "AT+JOIN"      a line that begins so is not passed on, and is answered so

The rule: what is done to the bytes depends on them and on a seed alone; no fault holds bytes that it is not for.
"""

from __future__ import annotations

import random
import re
from collections.abc import Iterator
from enum import StrEnum

import msgspec

from wexicon.core.text import seconds


class Side(StrEnum):
    """Who sent something: the `host` or the `module`."""

    HOST = "host"
    MODULE = "module"


class LineFault(msgspec.Struct, frozen=True):
    """One fault: `delay`, `loss`, `noise` or `answer`. `share` is that of bytes, `wait` in seconds; `line` how the host's line
    begins, `text` what answers it; `side` whose bytes it concerns, None: both."""

    kind: str
    share: float = 0.0
    wait: float = 0.0
    line: str = ""
    text: str = ""
    side: Side | None = None

    def text_of(self) -> str:
        """The fault as it is written."""
        if self.kind == "delay":
            return f"delay {self.wait:g}s after {self.line}"
        if self.kind == "answer":
            return f'answer "{self.text}" to "{self.line}"'
        return f"{self.kind} {self.share * 100:g}%" + (f" from {self.side}" if self.side else "")

    def told(self, times: int, sender: Side) -> str:
        """What it did to what `sender` sent just now, for people."""
        if self.kind == "delay":
            return f"fault: what the module sends comes {self.wait:g} s later"
        if self.kind == "answer":
            return f"fault: not passed on, and answered “{self.text}”"
        done = "lost" if self.kind == "loss" else "changed"
        return f"fault: {times} {'byte' if times == 1 else 'bytes'} of the {sender} {done}"


_DELAY = re.compile(r"delay (\S+) after (.+)")
_SHARE = re.compile(r"(loss|noise) (\d+(?:\.\d+)?)%(?: from (host|module))?")
_ANSWER = re.compile(r'answer "([^"]*)" to "([^"]+)"')


def line_fault(text: str) -> LineFault:
    """A fault as it is written. Raises ValueError that says how."""
    text = text.strip()
    if found := _DELAY.fullmatch(text):
        return LineFault("delay", wait=seconds(found[1]), line=found[2].strip('"'), side=Side.MODULE)
    if found := _SHARE.fullmatch(text):
        share = float(found[2]) / 100
        if share > 1:
            raise ValueError(f"{found[2]}% is more than all bytes")
        return LineFault(found[1], share=share, side=Side(found[3]) if found[3] else None)
    if found := _ANSWER.fullmatch(text):
        return LineFault("answer", text=found[1], line=found[2], side=Side.HOST)
    forms = ("delay 200ms after AT+SAVE", "loss 0.5% from module", "noise 0.1%", 'answer "ERR 3" to "AT+JOIN"')
    raise ValueError(f"{text!r} is not a fault: write {', '.join(forms[:-1])} or {forms[-1]}")


class Passed(msgspec.Struct, frozen=True):
    """Bytes to send now, or `later` seconds after they came; `to` whom; `made` if a fault made them."""

    data: bytes
    to: Side
    later: float = 0.0
    made: bool = False


class FaultyLine:
    """The faults of one tap, for both ways. `end` is the line ending of the module's answers; `done` counts what was done, by
    fault."""

    def __init__(self, faults: tuple[LineFault, ...] = (), *, end: bytes = b"\r\n", seed: int = 1) -> None:
        self.faults = faults
        self.done: dict[LineFault, int] = dict.fromkeys(faults, 0)
        self._end = end
        self._chance = random.Random(seed)
        self._answers = [one for one in faults if one.kind == "answer"]
        self._delays = [one for one in faults if one.kind == "delay"]
        self._shares = [one for one in faults if one.kind in ("loss", "noise")]
        # The start of the host's line so far; what of it is held, because it may be one that is answered here.
        self._line = bytearray()
        self._held = bytearray()
        self._holding = False
        self._late = 0.0

    def feed(self, side: Side, data: bytes) -> Iterator[Passed]:
        """Bytes that came from a side, as they go on."""
        other = Side.MODULE if side is Side.HOST else Side.HOST
        if self._shares:
            data = self._spoilt(side, data)
        if side is Side.MODULE:
            if data:
                yield Passed(data, other, self._late)
            return
        if not self._answers and not self._delays:
            if data:
                yield Passed(data, other)
            return
        yield from self._lines(data)

    def _lines(self, data: bytes) -> Iterator[Passed]:
        """The host's bytes, line by line; only those that may be answered here are held until that is known."""
        passed = bytearray()
        for byte in data:
            ends = byte in b"\r\n"
            if not ends:
                self._line.append(byte)
            elif self._line:
                line = bytes(self._line)
                self._line.clear()
                yield from self._ended(line, passed, byte)
                continue
            if self._may_be_answered():
                self._held.append(byte)
            else:
                passed += self._held
                self._held.clear()
                passed.append(byte)
        if passed:
            yield Passed(bytes(passed), Side.MODULE)

    def _may_be_answered(self) -> bool:
        line = bytes(self._line)
        begins = [one.line.encode() for one in self._answers]
        return bool(line) and any(one.startswith(line) or line.startswith(one) for one in begins)

    def _ended(self, line: bytes, passed: bytearray, end: int) -> Iterator[Passed]:
        self._late = 0.0
        for one in self._delays:
            if line.startswith(one.line.encode()):
                self._late = one.wait
                self.done[one] += 1
        fault = next((one for one in self._answers if line.startswith(one.line.encode())), None)
        if fault is None:
            passed += self._held
            passed.append(end)
            self._held.clear()
            return
        self._held.clear()
        self.done[fault] += 1
        if passed:
            yield Passed(bytes(passed), Side.MODULE)
            passed.clear()
        yield Passed(fault.text.encode() + self._end, Side.HOST, made=True)

    def _spoilt(self, side: Side, data: bytes) -> bytes:
        for fault in self._shares:
            if fault.side not in (None, side):
                continue
            kept = bytearray()
            for byte in data:
                if self._chance.random() >= fault.share:
                    kept.append(byte)
                    continue
                self.done[fault] += 1
                if fault.kind == "noise":
                    kept.append(byte ^ (1 << self._chance.randrange(8)))
            data = bytes(kept)
        return data
