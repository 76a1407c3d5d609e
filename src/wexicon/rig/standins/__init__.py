"""One file a stand-in, each written from its own description; `FAMILIES` finds them by name."""

from __future__ import annotations

from importlib import import_module

from wexicon.rig.standin import StandIn

FAMILIES = {
    "brisca-w1": "brisca_w1:BriscaW1",
    "recording": "recording:Recording",
    "tamsel-k5": "tamsel_k5:TamselK5",
}


def family(name: str) -> type[StandIn]:
    """The stand-in class called `name`; KeyError where there is none."""
    module, _, attribute = FAMILIES[name].partition(":")
    found = getattr(import_module(f"{__name__}.{module}"), attribute)
    assert isinstance(found, type) and issubclass(found, StandIn)
    return found
