"""What the signals of the system do to a command; Ctrl-C is one of them.

The rule: a signal that would end the program becomes an exception in the main thread, so that on the way out terminals are
restored, pins released and traces closed. A signal that was ignored when the program started stays ignored.
"""

from __future__ import annotations

import contextlib
import os
import signal
import threading
from collections.abc import Callable, Iterator
from types import FrameType

from wexicon.system import send_to_main, unblock

# The signals that end a program and can be caught (POSIX.1-2017, <signal.h>), as far as this system has them.
_NAMES = ("SIGINT", "SIGTERM", "SIGHUP", "SIGQUIT", "SIGALRM", "SIGUSR1", "SIGUSR2", "SIGXCPU")
ENDING = tuple(getattr(signal, name) for name in _NAMES if hasattr(signal, name))

# When a signal that was not taken is sent again (seconds).
_AGAIN = 0.2
# What a signal does: the last one is called. Without any, the program ends.
_takers: list[Callable[[], None]] = []
_ended = False


def heed_signals() -> None:
    """From now on signals stop the command. Only the main thread of a program can do this; elsewhere nothing happens."""
    if threading.current_thread() is threading.main_thread():
        for number in ENDING:
            if signal.getsignal(number) not in (signal.SIG_IGN, _caught):
                signal.signal(number, _caught)


def end_at_once() -> None:
    """From now on a signal ends the program without more: all that had to be cleaned up is."""
    if threading.current_thread() is threading.main_thread():
        for number in ENDING:
            if signal.getsignal(number) is _caught:
                signal.signal(number, lambda number, frame: os._exit(130))


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


@contextlib.contextmanager
def at_once() -> Iterator[None]:
    """While the block lasts, a signal ends the command at once: for prompts, which no stop between two exchanges can end."""
    taken = threading.Event()

    def take() -> None:
        taken.set()
        raise KeyboardInterrupt

    with signals_to(take), _sent_again(taken):
        yield


@contextlib.contextmanager
def _sent_again(taken: threading.Event) -> Iterator[None]:
    """While the block lasts, a signal is sent again until it is `taken`: one that comes right before the main thread waits for
    input is taken by Python only when that wait ends."""
    if threading.current_thread() is not threading.main_thread():
        yield
        return
    main = threading.get_ident()
    ours, theirs = os.pipe()
    unblock(theirs)

    def send() -> None:
        while data := os.read(ours, 1):
            while data[0] in ENDING and not taken.wait(_AGAIN):
                send_to_main(data[0], main)

    thread = threading.Thread(target=send, name="signals", daemon=True)
    before = signal.set_wakeup_fd(theirs, warn_on_full_buffer=False)
    thread.start()
    try:
        yield
    finally:
        taken.set()
        signal.set_wakeup_fd(before)
        os.close(theirs)
        thread.join()
        os.close(ours)
