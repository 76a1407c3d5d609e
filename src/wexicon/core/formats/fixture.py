"""A fixture: which line of the adapter drives which pin of the module, so that a jig can hold the key and cut the power.

The rule: a pin that no line drives is the operator's. Pins called dtr and rts are the lines themselves.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping

import msgspec

from wexicon.core.formats.toml import Source
from wexicon.core.protocol.session import Session

LINES = ("dtr", "rts")


class Pin(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[pin.NAME]`: the line that drives it; `inverted` where the line is on while the pin is off."""

    line: str
    inverted: bool = False


class Fixture:
    """Drives pins by the control lines of a session's link."""

    def __init__(self, pins: Mapping[str, Pin] | None = None) -> None:
        self.pins = {line: Pin(line) for line in LINES} | dict(pins or {})

    def has(self, names: Iterable[str]) -> bool:
        """Whether all these pins are driven."""
        return all(name in self.pins for name in names)

    def drive(self, session: Session, states: Mapping[str, bool]) -> None:
        """Puts pins on or off, all that share a call together."""
        lines = {self.pins[name].line: on != self.pins[name].inverted for name, on in states.items()}
        session.signal(dtr=lines.get("dtr"), rts=lines.get("rts"))


def read_fixture(data: bytes, path: str) -> Fixture:
    """The fixture in the bytes of a TOML file. Raises FileFault with every complaint."""
    source = Source(data, path)
    source.check_top(("format", "pin"))
    pins: dict[str, Pin] = {}
    given = source.data.get("pin", {})
    for name, table in given.items() if isinstance(given, dict) else ():
        pin = source.typed(table, Pin, ("pin", name))
        if pin and pin.line not in LINES:
            source.complain(("pin", name, "line"), f"{pin.line!r} is not one of dtr, rts")
        elif pin:
            pins[name] = pin
    source.finish()
    return Fixture(pins)
