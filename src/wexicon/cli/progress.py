"""What is being done, what the operator is asked, a word in letters five lines high, and how a command is stopped.

The rule: all of it goes to standard error; a line that stays never runs into the line that changes, and what is drawn anew is
gone when the work has ended. Large letters say nothing that is not printed in plain ones too. The first request to stop takes
effect after the current exchange, which leaves the module reachable; the second at once.
"""

from __future__ import annotations

import contextlib
import sys
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from typing import IO, TYPE_CHECKING, Any, TextIO, cast

from wexicon.cli.show import harmless, is_quiet, print_note, print_warning, styled
from wexicon.cli.signals import signals_to
from wexicon.core.faults import ModuleFault
from wexicon.core.protocol.observations import Began, Heard, Listener, Noted, Observation, Said, Transferred, Tuned
from wexicon.core.text import spoken, visible

if TYPE_CHECKING:
    from rich.console import Console
    from rich.live import Live


# How often a line of progress is printed if there is no terminal (seconds).
EVERY = 10.0
# After how long the progress names the awaited answer (seconds).
WAITS = 1.0
# A step that may take at least this long (seconds) is shown with its limit.
LONG = 5.0
_SHOWN = 40


class Progress(Listener):
    """Shows the work in progress: on a terminal in a line that changes, elsewhere by a line every ten seconds."""

    def __init__(self, title: str, *, quiet: bool = False) -> None:
        self._title = title
        self._quiet = quiet = quiet or is_quiet()
        self._status: Any = None
        self._step = self._link = self._note = self._said = ""
        self._searching = False
        self._most = 0.0
        self._rates = _Rates()
        self._began = self._spoke = self._told = time.monotonic()
        if sys.stderr.isatty() and not quiet:
            self._status = console().status(_Now(self))

    def __enter__(self) -> Progress:
        if self._status:
            self._status.start()
        return self

    def __exit__(self, *exc: object) -> None:
        if self._status:
            self._status.stop()

    def note(self, seen: Observation) -> None:
        """Something happened in the session."""
        match seen:
            case Said():
                self._said, self._spoke = seen.text.strip(), time.monotonic()
            case Heard():
                self._said = ""
                if seen.name:
                    self._note = f"{seen.name}: {seen.text}"
            case Began():
                self.step(seen.step)
                self._searching, self._most = seen.searching, seen.most
            case Tuned():
                self._link = str(seen.tuning)
            case Noted():
                self._note = seen.text
            case Transferred():
                self._note = self._rates.told(seen.done, seen.total, time.monotonic())
        self.idle()

    def idle(self) -> None:
        """Nothing came for a while."""
        now = time.monotonic()
        if not self._status and not self._quiet and now - self._told >= EVERY:
            self._told = now
            print_note(self.now())

    def step(self, step: str) -> None:
        """The step that has started."""
        self._step, self._began, self._note, self._said, self._searching = step, time.monotonic(), "", "", False
        self._most = 0.0

    def now(self) -> str:
        """The step, the rate being tried, the latest state, the awaited answer, the time since the step began, and how long it
        may take."""
        now = time.monotonic()
        step = f"{self._step} at {self._link}" if self._searching and self._link else self._step
        parts = [part for part in (step, self._note and visible(self._note)) if part]
        if self._said and now - self._spoke >= WAITS:
            said = self._said if len(self._said) <= _SHOWN else f"{self._said[:_SHOWN]}..."
            parts.append(f"waiting for the answer to “{visible(said)}”")
        told = f"{self._title}: " + "; ".join(parts) if parts else self._title
        most = f"; may take {spoken(self._most)}" if self._most >= LONG else ""
        return told if now - self._began < WAITS else f"{told} ({now - self._began:.0f} s{most})"

    def say(self, text: str) -> None:
        """A line that stays, above the step that is being done."""
        if self._status:
            from rich.text import Text

            self._status.console.print(Text.from_ansi(harmless(text)))
        else:
            print_warning(text)


class _Rates:
    """How a transfer goes: percent, rate and the time that is left, from when it began."""

    def __init__(self) -> None:
        self._first: tuple[float, int] | None = None
        self._last = 0

    def told(self, done: int, total: int, now: float) -> str:
        """In words."""
        if self._first is None or done < self._last:
            self._first = (now, done)
        self._last = done
        began, before = self._first
        share = f"{100 * done / total:.0f} % of {total} bytes" if total else "0 bytes"
        if done == before or now == began:
            return share
        rate = (done - before) / (now - began)
        return f"{share}, {rate:.0f} bytes/s, {spoken((total - done) / rate)} left"


class _Now:
    """What is being done, drawn as it is at the time of drawing."""

    def __init__(self, progress: Progress) -> None:
        self._progress = progress

    def __rich__(self) -> Any:
        from rich.text import Text

        return Text(self._progress.now(), overflow="ellipsis", no_wrap=True)


class Keyboard:
    """The lines that are typed, for the latest request. There is one for the program: two readers would take each other's.
    `ended` is whether nothing more can be typed."""

    def __init__(self) -> None:
        self._takers: list[Callable[[str], object]] = []
        self._thread: threading.Thread | None = None
        self.ended = False

    def give(self, taker: Callable[[str], object]) -> None:
        """From now on `taker` is given each line, until `take_away`."""
        self._takers.append(taker)
        if self._thread is None:
            self._thread = threading.Thread(target=self._read, name="keyboard", daemon=True)
            self._thread.start()

    def take_away(self, taker: Callable[[str], object]) -> None:
        """The one before is given the lines again."""
        self._takers.remove(taker)

    def _read(self) -> None:
        for line in sys.stdin:
            if self._takers:
                self._takers[-1](line.rstrip("\r\n"))
        self.ended = True


KEYBOARD = Keyboard()


class Person:
    """A person at the bench, asked on the terminal by numbered steps. A step is done when the module answers; Enter is asked
    for only where no answer would show it."""

    switches_power = False
    there = True

    def __init__(self, progress: Progress) -> None:
        self._progress = progress
        self._steps = 0
        self._asked = False

    def ask(self, act: str, text: str) -> None:
        self._steps += 1
        self._asked = True
        self._progress.say(styled(f"operator, step {self._steps}: ", "bold magenta") + text)

    def confirm(self, act: str, text: str, wait: Callable[[Callable[[], bool]], None]) -> None:
        if not sys.stdin.isatty():
            raise ModuleFault(f"Enter cannot be pressed, there is no terminal: {text}", hint="Run it at a terminal.")
        self._typed(act, text, wait)

    def answer(self, text: str, wait: Callable[[Callable[[], bool]], None]) -> str | None:
        if not sys.stdin.isatty():
            return None
        return self._typed("ask", text, wait)

    def _typed(self, act: str, text: str, wait: Callable[[Callable[[], bool]], None]) -> str:
        """The line that is typed once it is asked for, however soon."""
        lines: list[str] = []
        take = lines.append
        KEYBOARD.give(take)
        try:
            self.ask(act, text)
            wait(lambda: bool(lines))
        finally:
            KEYBOARD.take_away(take)
        return lines[0]

    def noticed(self) -> None:
        # The fixture may have done it, without a question.
        if self._asked:
            self._asked = False
            self._progress.say("  the module answers; release the key, if one is held")


Table = tuple[Sequence[str], Sequence[Sequence[str]]]


def console() -> Console:
    """A console of Rich on standard error. That the terminal hangs up stops nothing: what is drawn then is dropped."""
    from rich.console import Console

    return Console(file=cast(IO[str], _Lasting(sys.stderr)), highlight=False, emoji=False)


class _Lasting:
    """A stream whose failing writes are dropped."""

    def __init__(self, stream: TextIO) -> None:
        self._stream = stream

    def write(self, text: str) -> int:
        with contextlib.suppress(OSError):
            self._stream.write(text)
        return len(text)

    def flush(self) -> None:
        with contextlib.suppress(OSError):
            self._stream.flush()

    def __getattr__(self, name: str) -> Any:
        return getattr(self._stream, name)


class LiveTable:
    """Draws what `table` gives, columns and rows, several times a second. `shown` is whether there is a terminal for it."""

    def __init__(self, table: Callable[[], Table], *, quiet: bool) -> None:
        self._table = table
        self._live: Live | None = None
        self.shown = sys.stderr.isatty() and not quiet and not is_quiet()

    def __enter__(self) -> LiveTable:
        if self.shown:
            from rich.live import Live

            self._console = console()
            self._live = Live(console=self._console, get_renderable=self._drawn, refresh_per_second=10, transient=True)
            self._live.start()
        return self

    def __exit__(self, *exc: object) -> None:
        if self._live:
            self._live.stop()
            self._live = None

    def say(self, text: str, *, bell: bool = False) -> None:
        """A line that stays, above the table."""
        if self._live:
            from rich.text import Text

            self._console.print(Text.from_ansi(harmless(text)))
            if bell:
                self._console.bell()

    def _drawn(self) -> Any:
        from rich.text import Text

        from wexicon.cli.show import lines_of

        columns, rows = self._table()
        lines = lines_of(columns, rows, terminal=True, bold=lambda text: styled(text, "bold")) if rows else []
        return Text.from_ansi(harmless("\n".join(lines)))


class Stop:
    """Whether a stop was requested. That it was is printed when this is asked next, not by the signal's handler: the handler
    may have interrupted the printing of something else, which cannot be entered twice."""

    def __init__(self) -> None:
        self.asked = self._told = False

    def __call__(self) -> bool:
        if self.asked and not self._told:
            self._told = True
            print_warning("\nstopping after this exchange (Ctrl-C again: stop now)")
        return self.asked

    def _request(self) -> None:
        if self.asked:
            raise KeyboardInterrupt
        self.asked = True

    @contextlib.contextmanager
    def listening(self) -> Iterator[Stop]:
        """Takes Ctrl-C, and the system's requests to end, while the block lasts."""
        with signals_to(self._request):
            yield self


# Each letter by its five rows; # is ink.
_LETTERS = {
    "A": " ### |#   #|#####|#   #|#   #",
    "C": " ####|#    |#    |#    | ####",
    "D": "#### |#   #|#   #|#   #|#### ",
    "E": "#####|#    |#### |#    |#####",
    "F": "#####|#    |#### |#    |#    ",
    "I": "###| # | # | # |###",
    "K": "#   #|#  # |###  |#  # |#   #",
    "L": "#    |#    |#    |#    |#####",
    "M": "#   #|## ##|# # #|#   #|#   #",
    "N": "#   #|##  #|# # #|#  ##|#   #",
    "O": " ### |#   #|#   #|#   #| ### ",
    "P": "#### |#   #|#### |#    |#    ",
    "R": "#### |#   #|#### |#  # |#   #",
    "S": " ####|#    | ### |    #|#### ",
    "T": "#####|  #  |  #  |  #  |  #  ",
    "U": "#   #|#   #|#   #|#   #| ### ",
    "V": "#   #|#   #|#   #| # # |  #  ",
}
ROWS = 5


def banner(word: str, width: int) -> list[str]:
    """The rows of a word in capitals; the word itself, where it has other letters or is wider than `width` columns."""
    word = word.upper()
    letters = [_LETTERS[letter].split("|") for letter in word if letter in _LETTERS]
    rows = ["  ".join(letter[row] for letter in letters).replace("#", "█") for row in range(ROWS)]
    return rows if len(letters) == len(word) and len(rows[0]) <= width else [word]
