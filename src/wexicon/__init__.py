"""Wexicon provisions radio and positioning modules over a UART.

    import wexicon

    with wexicon.open_module("/dev/ttyUSB0", "lindle-l9") as module:
        print(wexicon.read(module).identity)
        result = wexicon.set_values(module, {"name": "Withy Point"})
    assert result.verdict is wexicon.Verdict.CONFORMS, result

The rule: every call blocks until it is done or its time is over; a module is used by one thread at a time, and modules on
different ports by different threads. Whatever goes wrong is a `Fault`: what, where, what to do, and of a module what was said
and heard. `wexicon.core` is the part without input or output.
"""

from typing import TYPE_CHECKING

from wexicon.version import __version__

if TYPE_CHECKING:
    from wexicon.api import (
        Fault,
        UnitResult,
        Verdict,
        do,
        hail,
        listen,
        open_module,
        open_port,
        provision,
        read,
        rig,
        run,
        set_values,
        tap,
        traffic,
        verify,
    )

__all__ = [
    "Fault",
    "UnitResult",
    "Verdict",
    "__version__",
    "do",
    "hail",
    "listen",
    "open_module",
    "open_port",
    "provision",
    "read",
    "rig",
    "run",
    "set_values",
    "tap",
    "traffic",
    "verify",
]


def __getattr__(name: str) -> object:
    """What a program uses, imported when it is used: a command starts without it."""
    if name in __all__:
        from importlib import import_module

        return getattr(import_module("wexicon.api"), name)
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
