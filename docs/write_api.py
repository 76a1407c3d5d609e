"""Writes docs/api.md: what Python programs and pytest use, from the docstrings.

    python docs/write_api.py

The rule: each sentence is that of the code; tests/docs holds the page to that.
"""

from __future__ import annotations

import inspect
import re
import textwrap
from collections.abc import Iterator
from pathlib import Path

import pytest

import wexicon
from wexicon.core.faults import CallFault, Fault, LinkFault, ModuleFault, Unreachable
from wexicon.testing import plugin
from wexicon.testing.conversation import Conversation, Line
from wexicon.testing.standin import ObservedStandIn, ServedStandIn, VirtualPort, VirtualStandIn

# What Python shows of types, of functions as defaults, and of enumerations.
_PLAINER = ((r"(: |-> )'([^']*)'", r"\1\2"), (r"<function <lambda> at \w+>", "..."), (r"<(\w+\.\w+): '.*?'>", r"\1"))

PAGE = Path(__file__).parent / "api.md"


def page() -> str:
    """The whole page."""
    return "\n".join(_lines()) + "\n"


def _lines() -> Iterator[str]:
    yield "# For Python programs and pytest\n"
    yield "Made by `docs/write_api.py` from the code.\n\n## import wexicon\n"
    yield from _text(wexicon)
    for name in sorted(wexicon.__all__):
        one = getattr(wexicon, name)
        if inspect.isfunction(one):
            yield from _one(name, one)
    yield "## Faults\n"
    for fault in (Fault, CallFault, Unreachable, LinkFault, ModuleFault):
        yield f"- `{fault.__name__}`: {_flat(fault)}"
    yield "\n## pytest\n\nInstalled with the package. Fixtures:\n"
    for name, one in vars(plugin).items():
        if name.startswith("wexicon_"):
            yield f"- `{name}`: {_flat(one)}"
    yield "\nOptions and marks:\n"
    config = pytest.Parser(_ispytest=True)
    plugin.pytest_addoption(config)
    for option in config.getgroup("wexicon").options:
        named = option.attrs()
        yield f"- `{option.names()[0]} {named['metavar']}`: {named['help']}"
    yield from (f"- `{one.partition(': ')[0]}`: {one.partition(': ')[2]}" for one in plugin.MARKS)
    for kind in (ObservedStandIn, ServedStandIn, VirtualStandIn, VirtualPort, Conversation, Line):
        yield f"\n## {kind.__name__}\n"
        yield from _text(kind)
        for name, one in vars(kind).items():
            shown = one.fget if isinstance(one, property) else one
            if not name.startswith("_") and inspect.isfunction(shown) and shown.__module__ == kind.__module__:
                yield from _one(name, shown, isinstance(one, property))


def _one(name: str, function: object, bare: bool = False) -> Iterator[str]:
    """A function with its signature and what it does."""
    signature = "" if bare else str(inspect.signature(function))  # type: ignore[arg-type]
    for pattern, plain in _PLAINER:
        signature = re.sub(pattern, plain, signature)
    yield f"**{name}**\n\n    {name}{signature.replace('self, ', '').replace('(self)', '()')}\n"
    what, _, example = (inspect.getdoc(function) or "").partition("\n\n")
    yield what + "\n"
    if example:
        yield textwrap.indent(textwrap.dedent(example), "    ") + "\n"


def _text(of: object) -> Iterator[str]:
    yield (inspect.getdoc(of) or "").strip() + "\n"


def _flat(of: object) -> str:
    return " ".join((inspect.getdoc(of) or "").split())


if __name__ == "__main__":
    PAGE.write_text(page())
