"""One file a maker, each stand-in written from its own description; `FAMILIES` finds them by name."""

from __future__ import annotations

from importlib import import_module

from wexicon.core.registry import Registry
from wexicon.rigs.standin import StandIn

FAMILIES: Registry[str | type[StandIn]] = Registry(
    "wexicon.standins",
    {
        "brisca-w1": "brisca_w1:BriscaW1",
        "cordal-g2": "cordal:CordalG2",
        "cordal-n7": "cordal:CordalN7",
        "fennick-z4": "fennick_z4:FennickZ4",
        "lindle-l9": "lindle:LindleL9",
        "lindle-r2": "lindle:LindleR2",
        "osier-w2": "osier_w2:OsierW2",
        "marram-c2": "marram_c2:MarramC2",
        "orvane-b3": "orvane_b3:OrvaneB3",
        "plover-j1": "plover_j1:PloverJ1",
        "polmar-p1": "polmar_p1:PolmarP1",
        "recording": "recording:Recording",
        "saltern-m4": "saltern_m4:SalternM4",
        "samphire-f2": "samphire_f2:SamphireF2",
        "skerry-g5": "skerry_g5:SkerryG5",
        "tamsel-k5": "tamsel:TamselK5",
        "tamsel-k6": "tamsel:TamselK6",
        "teasel-d3": "teasel_d3:TeaselD3",
        "wherry-c1": "wherry_c3:WherryC1",
        "wherry-c3": "wherry_c3:WherryC3",
    },
)


def family(name: str) -> type[StandIn]:
    """The stand-in class called `name`; KeyError where there is none."""
    found: object = FAMILIES[name]
    if isinstance(found, str):
        # Ours are imported when they are wanted.
        module, _, attribute = found.partition(":")
        found = getattr(import_module(f"{__name__}.{module}"), attribute)
    assert isinstance(found, type) and issubclass(found, StandIn)
    return found
