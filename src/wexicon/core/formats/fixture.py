"""A fixture (which line of the adapter drives which pin, which program runs after each unit) and `wexicon.toml` (what is the
same for all work of a project, or of a person).

The rule: a pin that no line drives is the operator's; pins called dtr and rts are the lines themselves. No secret is allowed
in a settings file.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import contextmanager
from typing import TYPE_CHECKING, Protocol

import msgspec

from wexicon.core.faults import Fault
from wexicon.core.formats.toml import Source
from wexicon.core.text import meant, seconds, visible
from wexicon.core.tuning import Tuning

if TYPE_CHECKING:
    from wexicon.core.protocol.session import Session

LINES = ("dtr", "rts")
# The lines that the other side drives.
INPUT_LINES = ("cts", "dsr", "dcd", "ri")
# The pin that is on while nothing is done.
POWER = "power"


class Pin(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[pin.NAME]`: the `line` that drives it, `inverted` where that is on while the pin is off; or the commands that put it
    `on` and `off`, for a relay board that has a program of its own."""

    line: str = ""
    inverted: bool = False
    on: str = ""
    off: str = ""


class Input(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[input.NAME]`: a pin of the module that is read: the `line` that shows it (cts, dsr, dcd, ri), `inverted` where that is
    on while the pin is off; or a `command` that prints 1 or 0."""

    line: str = ""
    inverted: bool = False
    command: str = ""


class Bridge(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[bridge]`: a pass-through board between adapter and module. `rate` and `frame` are those between adapter and board,
    which never change; its side towards the module is changed by the operator."""

    rate: int
    frame: str = "8N1"


class After(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[after]`: the `command` that is run after each unit, with its result on standard input as JSON: what `--json` prints,
    and `action` (provision, verify or restore). It may take a minute."""

    command: str


class FixtureFile(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A whole fixture file. `idle` are the levels of `dtr` and `rts` while nothing is done, from the opening of the port on;
    without it no key is pressed and the power is on."""

    format: int
    bridge: Bridge | None = None
    idle: dict[str, bool] = msgspec.field(default_factory=dict)
    pin: dict[str, Pin] = msgspec.field(default_factory=dict)
    input: dict[str, Input] = msgspec.field(default_factory=dict)
    after: After | None = None


class RecordsPins(Protocol):
    """Remembers pins that have to be put back, by port."""

    def begin(self, port: str, states: dict[str, bool]) -> None: ...

    def end(self, port: str, states: dict[str, bool]) -> None: ...

    def left(self, port: str) -> dict[str, bool]: ...


class Fixture:
    """Drives pins by the control lines of a session's link, or by commands, which `run` runs: it raises Fault where one
    fails. `record` has the pins that have to be put back; `bridge` is our side's link if there is a pass-through board,
    `idle` the levels of the lines while nothing is done."""

    def __init__(
        self,
        pins: Mapping[str, Pin] | None = None,
        run: Callable[[str], str] | None = None,
        record: RecordsPins | None = None,
        bridge: Tuning | None = None,
        idle: Mapping[str, bool] | None = None,
        inputs: Mapping[str, Input] | None = None,
        after: str = "",
    ) -> None:
        resting = {pin.line: (name == POWER) != pin.inverted for name, pin in (pins or {}).items() if pin.line}
        self.idle = {**resting, **(idle or {})}
        self.record = record
        self.bridge = bridge
        self.pins = {line: Pin(line) for line in LINES} | dict(pins or {})
        self.inputs = {line: Input(line) for line in INPUT_LINES} | dict(inputs or {})
        self._run = run
        # What is run after each unit.
        self.after = after

    @property
    def commands(self) -> list[str]:
        """The programs that it runs."""
        driving = [command for pin in self.pins.values() for command in (pin.on, pin.off) if command]
        reading = [one.command for one in self.inputs.values() if one.command]
        return driving + reading + ([self.after] if self.after else [])

    def reads(self, session: Session, name: str) -> bool:
        """Whether a pin of the module is on. Raises Fault; KeyError where it has no such input."""
        if name not in self.inputs:
            raise KeyError(meant(name, self.inputs))
        one = self.inputs[name]
        if one.line:
            return session.lines()[one.line] != one.inverted
        told = (self._run(one.command) if self._run else "").strip()
        if told not in ("0", "1"):
            raise Fault(
                f"the fixture's command “{visible(one.command)}” printed “{visible(told[:40])}”, and not 1 or 0"
            )
        return told == "1"

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
        port, back = session.link.name, dict(states)
        if self.record and back:
            self.record.begin(port, back)
        try:
            yield
        except Fault as fault:
            first = fault
            raise
        finally:
            try:
                self.drive(session, states, at_once=True)
                if self.record and back:
                    self.record.end(port, back)
            except Fault as fault:
                left = ", ".join(f"{name} {'off' if on else 'on'}" for name, on in states.items())
                what = f"the fixture's pins could not be put back; they may be left so: {left} ({fault.what})"
                what = f"{first.what}; {what}" if first else what
                raise Fault(what, where=session.link.name, hint="Put them right by hand.") from fault

    def put_right(self, session: Session) -> str:
        """Puts back the pins that an earlier run on this port has left; in words, empty if there are none."""
        left = self.record.left(session.link.name) if self.record else {}
        if not self.record or not left:
            return ""
        told = ", ".join(f"{name} {'off' if on else 'on'}" for name, on in left.items())
        if not self.has(left):
            return (
                f"an interrupted run left {told}: name the fixture that drives it (--fixture), or put it right by hand"
            )
        self.drive(session, left, at_once=True)
        self.record.end(session.link.name, left)
        return f"an interrupted run left {told}; it was put right"


def read_fixture(
    data: bytes, path: str, run: Callable[[str], str] | None = None, record: RecordsPins | None = None
) -> Fixture:
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
    inputs: dict[str, Input] = {}
    wired = source.data.get("input", {})
    for name, table in wired.items() if isinstance(wired, dict) else ():
        one = source.typed(table, Input, ("input", name))
        if one and bool(one.line) == bool(one.command):
            source.complain(("input", name), "has a line or a command", 'write line = "cts", or command = "PROGRAM"')
        elif one and one.line and one.line not in INPUT_LINES:
            source.complain(("input", name, "line"), f"{one.line!r} is not one of {', '.join(INPUT_LINES)}")
        elif one:
            inputs[name] = one
    bridge = source.typed(source.data["bridge"], Bridge, ("bridge",)) if "bridge" in source.data else None
    tuning = None
    if bridge:
        try:
            tuning = Tuning.of(bridge.rate, bridge.frame)
        except ValueError as fault:
            source.complain(("bridge",), str(fault))
    idle = source.typed(source.data.get("idle", {}), dict[str, bool], ("idle",)) or {}
    for name in idle:
        if name not in LINES:
            source.complain(("idle", name), f"{name!r} is not one of dtr, rts")
    after = source.typed(source.data["after"], After, ("after",)) if "after" in source.data else None
    if after and not after.command.strip():
        source.complain(("after", "command"), "is empty", 'write command = "PROGRAM", or take [after] out')
    source.finish()
    return Fixture(pins, run, record, tuning, idle, inputs, after.command if after else "")


OPERATORS = ("person", "rig", "nobody")
EVIDENCE = ("auto", "power", "restart", "reading", "twice")
# A password in the URL of a database.
_PASSWORD = re.compile(r"://[^/@]*:[^/@]+@|[?&]password=", re.IGNORECASE)


class ReportTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[report]`: the `title` of reports."""

    title: str = ""


class SettingsFile(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A whole `wexicon.toml`. `register` is a file or the URL of a database; `lexicons` are folders of lexicons; `fixture` a
    fixture file; `operator` who operates keys and power (person, rig, nobody), `patience` how long that is waited for; `prove`
    the evidence that is required where settings are written; `bench` what this bench is called in a shared register; `ports`
    names of ports. Paths begin at the file's own folder."""

    format: int
    register: str = ""
    lexicons: list[str] = msgspec.field(default_factory=list)
    fixture: str = ""
    operator: str = ""
    patience: str = ""
    prove: str = ""
    bench: str = ""
    ports: dict[str, str] = msgspec.field(default_factory=dict)
    report: ReportTable = ReportTable()


def read_settings(data: bytes, path: str) -> SettingsFile:
    """Reads a `wexicon.toml`. Raises FileFault with everything that is wrong."""
    source = Source(data, path)
    source.check_top(SettingsFile.__struct_fields__)
    source.finish()
    made = source.typed(source.data, SettingsFile, ())
    if made:
        for name, known in (("operator", OPERATORS), ("prove", EVIDENCE)):
            given = getattr(made, name)
            if given and given not in known:
                source.complain((name,), f"{given!r} is not one of {', '.join(known)}", source.suggest(given, known))
        if made.patience:
            try:
                seconds(made.patience)
            except ValueError as fault:
                source.complain(("patience",), str(fault))
        if _PASSWORD.search(made.register):
            hint = "leave it out; the database's own password file or PGPASSWORD has it"
            source.complain(("register",), "a password must not stand in this file", hint)
    source.finish()
    assert made
    return made
