"""How a command that works with modules is stopped.

The rule: the first request stops after the current exchange, which leaves the module reachable; the second stops at once.
"""

from __future__ import annotations

import contextlib
from collections.abc import Iterator

from wexicon.cli.show import print_note
from wexicon.cli.signals import signals_to


class Stop:
    """Whether a stop was requested."""

    def __init__(self) -> None:
        self.asked = False

    def __call__(self) -> bool:
        return self.asked

    def _request(self) -> None:
        if self.asked:
            raise KeyboardInterrupt
        self.asked = True
        print_note("\nstopping after this exchange (Ctrl-C again: stop now)")

    @contextlib.contextmanager
    def listening(self) -> Iterator[Stop]:
        """Takes Ctrl-C, and the system's requests to end, while the block lasts."""
        with signals_to(self._request):
            yield self
