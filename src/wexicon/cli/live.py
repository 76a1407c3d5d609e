"""What is drawn anew on a terminal while work goes on: a table with lines that stay above it; nothing in a pipe.

The rule: all of it goes to standard error, and is gone when the work has ended: what came of it is printed by others.
"""

from __future__ import annotations

import contextlib
import sys
from collections.abc import Callable, Sequence
from typing import IO, TYPE_CHECKING, Any, TextIO, cast

from wexicon.cli.show import harmless, is_quiet, styled

if TYPE_CHECKING:
    from rich.console import Console
    from rich.live import Live

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

        from wexicon.cli.table import lines_of

        columns, rows = self._table()
        lines = lines_of(columns, rows, terminal=True, bold=lambda text: styled(text, "bold")) if rows else []
        return Text.from_ansi(harmless("\n".join(lines)))
