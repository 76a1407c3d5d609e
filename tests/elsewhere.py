"""Runs the program as on a system that lacks what only POSIX has: `python -m tests.elsewhere WORDS`.

The rule: only Wexicon's own code is kept from it; libraries that know this system go on as they are.
"""

from __future__ import annotations

import builtins
import os
import socket
import sys
from typing import Any

LACKS = {"termios", "tty", "pty", "fcntl"}
_usual = builtins.__import__


def _import(name: str, globals_: Any = None, *more: Any, **named: Any) -> Any:
    asks = (globals_ or {}).get("__name__", "")
    if name in LACKS and asks.startswith("wexicon"):
        raise ImportError(f"no module named {name!r}", name=name)
    return _usual(name, globals_, *more, **named)


def leave_out() -> None:
    """Takes away what such a system lacks."""
    import importlib.util

    import wexicon.links.port as ports

    found = importlib.util.find_spec
    builtins.__import__ = _import
    importlib.util.find_spec = lambda name, *more: None if name in LACKS else found(name, *more)
    pair, family = socket.socketpair, socket.AF_UNIX
    # Python has one there too.
    socket.socketpair = lambda: pair(family)  # type: ignore[assignment,misc]
    del socket.AF_UNIX
    for name in ("getuid", "geteuid", "uname", "O_NONBLOCK", "O_NOFOLLOW"):
        delattr(os, name)
    # A port has no descriptor there: a thread reads it.
    ports._descriptor = lambda port: None


if __name__ == "__main__":
    leave_out()
    from wexicon.cli.main import main

    main(sys.argv[1:])
