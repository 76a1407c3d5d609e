"""What only some systems have, each with its counterpart on the others: locks of files, terminals, users, signals, ports.

The rule: no other file of ours imports a module that only some systems have. What has no counterpart is None or empty, and its
callers do without. The types are checked for Linux, macOS and Windows.
"""

from __future__ import annotations

import contextlib
import os
import select
import signal
import sys
from collections.abc import Callable, Iterator
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import socket

if sys.platform == "win32":
    import _thread
    import ctypes
    import msvcrt
    import time

    # The byte that stands for the whole file: far behind its content, which others may read.
    _LOCKED = 1 << 30
    # The handle of standard input, and the flag of a console that shows what is typed (Windows console API).
    _INPUT, _ECHO = -10, 0x4
    # How long a lock is waited for before it is tried again (seconds).
    _AGAIN = 0.05

    HAS_TERMINALS = False
    # What a serial device raises beside OSError.
    TERMINAL_FAULTS: tuple[type[Exception], ...] = ()

    def lock(file: int, *, wait: bool = False) -> None:
        """Locks an open file for this descriptor alone, until it is closed. Raises OSError if another has it, unless it should
        `wait` for that one."""
        while True:
            os.lseek(file, _LOCKED, os.SEEK_SET)
            try:
                msvcrt.locking(file, msvcrt.LK_NBLCK, 1)
            except OSError:
                if not wait:
                    raise
                time.sleep(_AGAIN)
            else:
                break
        os.lseek(file, 0, os.SEEK_SET)

    def is_locked(file: int) -> bool:
        """Whether another descriptor has locked this file."""
        os.lseek(file, _LOCKED, os.SEEK_SET)
        try:
            msvcrt.locking(file, msvcrt.LK_NBLCK, 1)
        except OSError:
            return True
        else:
            os.lseek(file, _LOCKED, os.SEEK_SET)
            msvcrt.locking(file, msvcrt.LK_UNLCK, 1)
            return False
        finally:
            os.lseek(file, 0, os.SEEK_SET)

    def user() -> int | None:
        """The number of the user who runs this program; None where users have none."""
        return None

    def own_group() -> int | None:
        """The number of a group that only this user is in; None if there is none."""
        return None

    def host_name() -> str:
        """The name of this machine."""
        return os.environ.get("COMPUTERNAME", "")

    @contextlib.contextmanager
    def unechoed() -> Iterator[None]:
        """While the block lasts the console itself echoes nothing: what is typed early may be a secret."""
        kernel = ctypes.windll.kernel32
        handle, before = kernel.GetStdHandle(_INPUT), ctypes.c_uint32()
        if not kernel.GetConsoleMode(handle, ctypes.byref(before)):
            yield
            return
        kernel.SetConsoleMode(handle, before.value & ~_ECHO)
        try:
            yield
        finally:
            kernel.SetConsoleMode(handle, before.value)

    def send_to_main(number: int, thread: int) -> None:
        """Has the main thread take a signal."""
        _thread.interrupt_main(signal.Signals(number))

    def unblock(file: int) -> None:
        """Writes to a pipe no longer wait. There is no such mode here: a signal's byte always has room in it."""

    def waiter(file: int) -> Callable[[float], bool] | None:
        """None: a port has no descriptor that can be waited for, and a thread reads it."""
        return None

    def local_socket() -> socket.socket | None:
        """A socket whose address is a file; None: a port of this machine serves instead."""
        return None

    def device_of(number: int) -> str:
        """How the system's list of locks names a device; empty where it has none."""
        return ""

    def open_terminal() -> tuple[int, int, str]:
        """A pseudo-terminal that changes no byte: our end, the other one, and its name. Raises OSError: there is none."""
        raise OSError("this system has no pseudo-terminals")

    def terminal_rate(file: int) -> int:
        """The rate that a terminal has in its settings (baud); 0 if unknown."""
        return 0

else:
    import fcntl
    import termios

    HAS_TERMINALS = True
    TERMINAL_FAULTS = (termios.error,)
    # The rates that a terminal has a code for, by code.
    _BAUD = {getattr(termios, name): int(name[1:]) for name in dir(termios) if name[0] == "B" and name[1:].isdigit()}

    def lock(file: int, *, wait: bool = False) -> None:
        fcntl.flock(file, fcntl.LOCK_EX | (0 if wait else fcntl.LOCK_NB))

    def is_locked(file: int) -> bool:
        try:
            fcntl.flock(file, fcntl.LOCK_SH | fcntl.LOCK_NB)
        except OSError:
            return True
        fcntl.flock(file, fcntl.LOCK_UN)
        return False

    def user() -> int | None:
        return os.getuid()

    def own_group() -> int | None:
        import grp
        import pwd

        try:
            me = pwd.getpwuid(os.getuid())
            members = grp.getgrgid(me.pw_gid).gr_mem
        except KeyError:
            return None
        return me.pw_gid if set(members) <= {me.pw_name} else None

    def host_name() -> str:
        return os.uname().nodename

    @contextlib.contextmanager
    def unechoed() -> Iterator[None]:
        before = termios.tcgetattr(sys.stdin)
        after = [*before]
        after[3] &= ~termios.ECHO
        termios.tcsetattr(sys.stdin, termios.TCSADRAIN, after)
        try:
            yield
        finally:
            with contextlib.suppress(termios.error):  # the terminal hung up
                termios.tcsetattr(sys.stdin, termios.TCSADRAIN, before)

    def send_to_main(number: int, thread: int) -> None:
        signal.pthread_kill(thread, number)

    def unblock(file: int) -> None:
        os.set_blocking(file, False)

    def waiter(file: int) -> Callable[[float], bool] | None:
        # `poll` has no limit on descriptors, as `select` has; its milliseconds are rounded up.
        poll = select.poll()
        poll.register(file, select.POLLIN)

        def wait(seconds: float) -> bool:
            return bool(poll.poll(seconds * 1000 if seconds > 0 else 0))

        return wait

    def local_socket() -> socket.socket | None:
        import socket

        return socket.socket(socket.AF_UNIX)

    def device_of(number: int) -> str:
        return f"{os.major(number):02x}:{os.minor(number):02x}"

    def open_terminal() -> tuple[int, int, str]:
        import tty

        ours, theirs = os.openpty()
        tty.setraw(theirs)
        os.set_blocking(ours, False)
        return ours, theirs, os.ttyname(theirs)

    def terminal_rate(file: int) -> int:
        return _BAUD.get(termios.tcgetattr(file)[5], 0)
