"""Runs the program as on Windows: `python -m tests.elsewhere WORDS`.

The rule: `wexicon.system` takes the branch that it takes there, with stand-ins of the modules that only Windows has, which
raise what these raise. Only Wexicon's own code is kept from what only POSIX has, and from removing or replacing an open file;
libraries that know this system go on as they are.
"""

from __future__ import annotations

import builtins
import fcntl
import os
import socket
import sys
import types
from collections.abc import Callable
from pathlib import Path
from typing import Any

LACKS = {"termios", "tty", "pty", "fcntl", "pwd", "grp", "resource"}
_usual = builtins.__import__


def _import(name: str, globals_: Any = None, *more: Any, **named: Any) -> Any:
    asks = (globals_ or {}).get("__name__", "")
    if name in LACKS and asks.startswith("wexicon"):
        raise ImportError(f"no module named {name!r}", name=name)
    return _usual(name, globals_, *more, **named)


def _locking(file: int, mode: int, count: int) -> None:
    """As msvcrt's: a lock that another descriptor has is refused at once."""
    assert count == 1 and os.lseek(file, 0, os.SEEK_CUR) > 4096, "the lock must not cover what others read"
    if mode == 0:
        fcntl.flock(file, fcntl.LOCK_UN)
        return
    try:
        fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except BlockingIOError:
        raise PermissionError(13, "Permission denied") from None


def _not_if_open(usual: Callable[..., Any]) -> Callable[..., Any]:
    """As there: a file that this program has open is neither removed nor replaced."""

    def tried(*paths: Any, **named: Any) -> Any:
        for path in paths:
            try:
                real = os.path.realpath(path)
            except TypeError:
                continue
            for number in Path("/proc/self/fd").iterdir():
                if os.path.realpath(number) == real and not Path(real).is_dir():
                    raise PermissionError(13, "The process cannot access the file", str(path))
        return usual(*paths, **named)

    return tried


def leave_out() -> None:
    """Takes away what such a system lacks, and gives what it has."""
    import importlib.util

    console = types.ModuleType("msvcrt")
    console.locking, console.LK_UNLCK, console.LK_LOCK, console.LK_NBLCK = _locking, 0, 1, 2  # type: ignore[attr-defined]
    sys.modules["msvcrt"] = console
    ours, sys.platform = sys.platform, "win32"
    import wexicon.system

    sys.platform = ours
    import wexicon.links.port

    found = importlib.util.find_spec
    builtins.__import__ = _import
    importlib.util.find_spec = lambda name, *more: None if name in LACKS else found(name, *more)
    pair, family = socket.socketpair, socket.AF_UNIX
    # Python has one there too.
    socket.socketpair = lambda: pair(family)  # type: ignore[assignment,misc]
    del socket.AF_UNIX
    for name in ("getuid", "geteuid", "uname", "openpty", "ttyname", "set_blocking", "O_NONBLOCK", "O_NOFOLLOW"):
        delattr(os, name)
    Path.unlink = _not_if_open(Path.unlink)  # type: ignore[method-assign]
    Path.rename = _not_if_open(Path.rename)  # type: ignore[method-assign]
    Path.replace = _not_if_open(Path.replace)  # type: ignore[method-assign]
    assert wexicon.links.port.waiter(0) is None


if __name__ == "__main__":
    leave_out()
    from wexicon.cli.main import main

    main(sys.argv[1:])
