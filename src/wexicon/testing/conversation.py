"""What firmware and module said to each other, with times, and assertions on it.

The rule: an assertion that fails shows the whole conversation and marks where it went wrong.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import NamedTuple

from wexicon.core.protocol.line_faults import Side
from wexicon.core.protocol.patterns import Pattern
from wexicon.core.text import visible

_MARKS = {Side.HOST: ">", Side.MODULE: "<", None: "#"}


# Tracebacks end in the test, not here.
__tracebackhide__ = True


class Unexpected(AssertionError):
    """The firmware did not do what was expected; the text has the conversation."""


class Line(NamedTuple):
    """Something said at a time (seconds since the conversation began): by the firmware (HOST) or by the module; of neither
    side is what was done to the module, such as `power off`."""

    at: float
    side: Side | None
    text: str

    def show(self) -> str:
        """The line as it is printed."""
        return f"{self.at:9.3f}  {_MARKS[self.side]} {visible(self.text)}"


class Conversation(tuple[Line, ...]):
    """The lines so far, in order. Lines to look for are patterns as in a dialogue: `AT+RATE={rate:int}`, `AT+LABEL=...`.

    Example: `conversation.expect_order("AT+RATE={rate:int}", "AT+SAVE")`.
    """

    def said(self, pattern: str) -> list[Line]:
        """The lines of the firmware that match."""
        return self._found(pattern, Side.HOST)

    def heard(self, pattern: str) -> list[Line]:
        """The lines of the module that match."""
        return self._found(pattern, Side.MODULE)

    def show(self, at: Line | None = None) -> str:
        """All of it, one line each; `at` is marked."""
        return "\n".join(f"{'->' if line is at else '  '}{line.show()}" for line in self)

    def expect_said(self, pattern: str, times: int | None = None) -> Line:
        """The firmware said such a line, `times` times if given; gives the first. Raises Unexpected."""
        found = self.said(pattern)
        if not found:
            raise self._wrong(f"the firmware never said {pattern}")
        if times is not None and len(found) != times:
            raise self._wrong(f"the firmware said {pattern} {len(found)} times, not {times}", found[-1])
        return found[0]

    def expect_not_said(self, pattern: str) -> None:
        """The firmware said no such line. Raises Unexpected."""
        if found := self.said(pattern):
            raise self._wrong(f"the firmware said {pattern}", found[0])

    def expect_order(self, *patterns: str) -> list[Line]:
        """The firmware said these lines in this order, others between them or not; gives them. Raises Unexpected."""
        made: list[Line] = []
        for pattern in patterns:
            later = [line for line in self.said(pattern) if not made or self.index(line) > self.index(made[-1])]
            if not later:
                first = self.expect_said(pattern)
                raise self._wrong(f"the firmware did not say {pattern} after {visible(made[-1].text)}", first)
            made.append(later[0])
        return made

    def expect_silence(self, before: str, seconds: float) -> None:
        """The firmware was silent for `seconds` before each such line. Raises Unexpected."""
        self.expect_said(before)
        for line in self.said(before):
            earlier = [one for one in self if one.side is Side.HOST and one.at < line.at]
            if earlier and line.at - earlier[-1].at < seconds:
                told = f"{line.at - earlier[-1].at:.3f} s after {visible(earlier[-1].text)}, not {seconds:g} s"
                raise self._wrong(f"the firmware said {visible(line.text)} {told}", line)

    def expect_answered(self, pattern: str, answer: str) -> Line:
        """After such a line of the firmware, and before its next one, the module said such an answer. Raises Unexpected."""
        for line in self.said(pattern):
            for one in self[self.index(line) + 1 :]:
                if one.side is Side.HOST:
                    break
                if one.side is Side.MODULE and Pattern(answer).match(one.text) is not None:
                    return one
        raise self._wrong(f"{pattern} was not answered {answer}", self.expect_said(pattern))

    def expect_back(self, within: float | None = None) -> Line:
        """After the module's power last came on the firmware spoke to it and was answered; gives the answer. Raises
        Unexpected."""
        starts = [line for line in self if line.side is None and line.text == "power on"]
        if not starts:
            raise self._wrong("the power was never cut")
        after = self[self.index(starts[-1]) + 1 :]
        spoke = next((line for line in after if line.side is Side.HOST), None)
        back = next((line for line in after if spoke and line.side is Side.MODULE and line.at > spoke.at), None)
        if spoke is None or back is None:
            told = "was not answered" if spoke else "said nothing"
            raise self._wrong(f"after the power came on the firmware {told}", spoke or starts[-1])
        if within is not None and back.at - starts[-1].at > within:
            raise self._wrong(f"the firmware was back after {back.at - starts[-1].at:.3f} s, not {within:g} s", back)
        return back

    def expect_lines(self, expected: str | Sequence[str]) -> None:
        """All that was said is this: lines that begin with `> ` are the firmware's, with `< ` the module's. Raises
        Unexpected that shows the first difference."""
        wanted = [line.strip() for line in (expected.splitlines() if isinstance(expected, str) else expected)]
        wanted = [line for line in wanted if line and not line.startswith("#")]
        lines = [line for line in self if line.side is not None]
        for number, want in enumerate(wanted):
            if number >= len(lines):
                raise self._wrong(f"the conversation ended before {want}")
            mark, _, text = want.partition(" ")
            line = lines[number]
            if mark != _MARKS[line.side] or Pattern(text).match(line.text) is None:
                raise self._wrong(f"first difference: expected {want}", line)
        if len(lines) > len(wanted):
            raise self._wrong("nothing more was expected", lines[len(wanted)])

    def _found(self, pattern: str, side: Side) -> list[Line]:
        made = Pattern(pattern)
        return [line for line in self if line.side is side and made.match(line.text) is not None]

    def _wrong(self, what: str, at: Line | None = None) -> Unexpected:
        return Unexpected(f"{what}\n{self.show(at)}")
