"""A fixture: which line of the adapter drives which pin of the module, so that a jig can hold the key and cut the power.

The rule: a pin that no line drives is the operator's. Pins called dtr and rts are the lines themselves.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import contextmanager

import msgspec

from wexicon.core.faults import Fault
from wexicon.core.formats.toml import Source
from wexicon.core.protocol.session import Session

LINES = ("dtr", "rts")


class Pin(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[pin.NAME]`: the `line` that drives it, `inverted` where that is on while the pin is off; or the commands that put it
    `on` and `off`, for a relay board that has a program of its own."""

    line: str = ""
    inverted: bool = False
    on: str = ""
    off: str = ""


class FixtureFile(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A whole fixture file."""

    format: int
    pin: dict[str, Pin] = msgspec.field(default_factory=dict)


class Fixture:
    """Drives pins by the control lines of a session's link, or by commands, which `run` runs: it raises Fault where one
    fails."""

    def __init__(self, pins: Mapping[str, Pin] | None = None, run: Callable[[str], None] | None = None) -> None:
        self.pins = {line: Pin(line) for line in LINES} | dict(pins or {})
        self._run = run

    def has(self, names: Iterable[str]) -> bool:
        """Whether all these pins are driven."""
        return all(name in self.pins for name in names)

    def drive(self, session: Session, states: Mapping[str, bool], *, at_once: bool = False) -> None:
        """Puts pins on or off, all that share a call together; `at_once` even if a stop was requested."""
        lines: dict[str, bool] = {}
        for name, on in states.items():
            pin = self.pins[name]
            if pin.line:
                lines[pin.line] = on != pin.inverted
            elif self._run:
                session.log(f"pin {name} {'on' if on else 'off'}")
                self._run(pin.on if on else pin.off)
        if lines:
            session.signal(dtr=lines.get("dtr"), rts=lines.get("rts"), at_once=at_once)

    @contextmanager
    def restored(self, session: Session, states: Mapping[str, bool]) -> Iterator[None]:
        """Puts pins to these states when the block ends, however it ends. Raises Fault if that cannot be done."""
        first: Fault | None = None
        try:
            yield
        except Fault as fault:
            first = fault
            raise
        finally:
            try:
                self.drive(session, states, at_once=True)
            except Fault as fault:
                left = ", ".join(f"{name} {'off' if on else 'on'}" for name, on in states.items())
                what = f"the fixture's pins could not be put back; they may be left so: {left} ({fault.what})"
                what = f"{first.what}; {what}" if first else what
                raise Fault(what, where=session.link.name, hint="Put them right by hand.") from fault


def read_fixture(data: bytes, path: str, run: Callable[[str], None] | None = None) -> Fixture:
    """The fixture in the bytes of a TOML file, whose commands `run` runs. Raises FileFault with every complaint."""
    source = Source(data, path)
    source.check_top(FixtureFile.__struct_fields__)
    pins: dict[str, Pin] = {}
    given = source.data.get("pin", {})
    for name, table in given.items() if isinstance(given, dict) else ():
        pin = source.typed(table, Pin, ("pin", name))
        if pin and pin.line and (pin.on or pin.off):
            source.complain(("pin", name), "has a line and commands", "give it either line, or on and off")
        elif pin and not pin.line and not (pin.on and pin.off):
            source.complain(("pin", name), "has neither a line nor both commands", 'write line = "dtr", or on and off')
        elif pin and pin.line and pin.line not in LINES:
            source.complain(("pin", name, "line"), f"{pin.line!r} is not one of dtr, rts")
        elif pin:
            pins[name] = pin
    source.finish()
    return Fixture(pins, run)
