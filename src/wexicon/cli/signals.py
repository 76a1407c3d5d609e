"""What the signals of the system do to a command; Ctrl-C is one of them.

The rule: a signal that would end the program becomes an exception in the main thread, so that on the way out terminals are
restored, pins released and traces closed. A signal that was ignored when the program started stays ignored.
"""

from __future__ import annotations

import contextlib
import signal
import threading
from collections.abc import Callable, Iterator
from types import FrameType

# The signals that end a program and can be caught (POSIX.1-2017, <signal.h>), as far as this system has them.
_NAMES = ("SIGINT", "SIGTERM", "SIGHUP", "SIGQUIT", "SIGALRM", "SIGUSR1", "SIGUSR2", "SIGXCPU")
ENDING = tuple(getattr(signal, name) for name in _NAMES if hasattr(signal, name))

# What a signal does: the last one is called. Without any, the program ends.
_takers: list[Callable[[], None]] = []
_ended = False


def heed_signals() -> None:
    """From now on signals stop the command. Only the main thread of a program can do this; elsewhere nothing happens."""
    if threading.current_thread() is threading.main_thread():
        for number in ENDING:
            if signal.getsignal(number) not in (signal.SIG_IGN, _caught):
                signal.signal(number, _caught)


def _caught(number: int, frame: FrameType | None) -> None:
    global _ended
    if _takers:
        _takers[-1]()
    elif not _ended or number == signal.SIGINT:
        # A hang-up is often followed by more of them, which must not disturb the way out.
        _ended = True
        raise KeyboardInterrupt


@contextlib.contextmanager
def signals_to(taker: Callable[[], None]) -> Iterator[None]:
    """While the block lasts, a signal calls `taker`, in the main thread, instead of ending the program."""
    heed_signals()
    _takers.append(taker)
    try:
        yield
    finally:
        _takers.remove(taker)


def at_once() -> contextlib.AbstractContextManager[None]:
    """While the block lasts, a signal ends the command at once: for prompts, which no stop between two exchanges can end."""
    return signals_to(_raise)


def _raise() -> None:
    raise KeyboardInterrupt
