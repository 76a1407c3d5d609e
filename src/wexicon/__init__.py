"""Wexicon provisions radio and positioning modules over a UART.

    import wexicon

    with wexicon.open_module("/dev/ttyUSB0", "lindle-l9") as module:
        print(wexicon.read(module).identity)
        result = wexicon.set_values(module, {"name": "Withy Point"})
    assert result.verdict is wexicon.Verdict.CONFORMS, result

The rule: every call blocks until it is done or its time is over; a module is used by one thread at a time, and modules on
different ports by different threads. A wrong call, or a port that cannot be opened, raises a `Fault`. What happens on an open
port ends in a result; its `require()` raises a `Fault` if it failed. A fault says what, where and what to do; `part` is what
was said, expected and heard. What is in `wexicon` itself is stable: it changes with a new major version only.
"""

from wexicon.version import __version__

# As of `typing`, which takes longer to import than all that is here.
TYPE_CHECKING = False
if TYPE_CHECKING:
    from wexicon.api import (
        CallFault,
        Fault,
        LinkFault,
        ListenOrder,
        ModuleFault,
        Prove,
        Setup,
        SheetOrder,
        TrafficOrder,
        UnitResult,
        Unreachable,
        Verdict,
        do,
        find_lexicon,
        hail,
        listen,
        open_module,
        open_port,
        provision,
        read,
        rig,
        run,
        set_values,
        sweep,
        tap,
        traffic,
        verify,
    )

__all__ = [
    "CallFault",
    "Fault",
    "LinkFault",
    "ListenOrder",
    "ModuleFault",
    "Prove",
    "Setup",
    "SheetOrder",
    "TrafficOrder",
    "UnitResult",
    "Unreachable",
    "Verdict",
    "__version__",
    "do",
    "find_lexicon",
    "hail",
    "listen",
    "open_module",
    "open_port",
    "provision",
    "read",
    "rig",
    "run",
    "set_values",
    "sweep",
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
