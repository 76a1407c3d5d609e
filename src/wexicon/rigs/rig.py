"""A rig: stand-ins and the air between them, as a TOML file describes them.

The rule: the rig only builds and holds the stand-ins; what puts them on ports is `serving`, and under the virtual
clock nothing does.
"""

from __future__ import annotations

from collections.abc import Callable

import msgspec

from wexicon.core.agenda import Agenda
from wexicon.core.faults import CallFault
from wexicon.core.formats.toml import Source
from wexicon.core.protocol.recorded import Recorded
from wexicon.core.text import meant
from wexicon.core.tuning import Tuning
from wexicon.rigs.air import Air, AirTable
from wexicon.rigs.standin import StandIn
from wexicon.rigs.standins import FAMILIES, family
from wexicon.rigs.standins.recording import Recording
from wexicon.rigs.uart import WireFaults

SERVES = ("pty", "rfc2217", "tcp", "shelf")


class BoardTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """The rates of a pass-through board: towards the host (never changed), and towards the module."""

    near: int
    far: int


class UnitTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[unit.NAME]`: one stand-in. `settings` is what its flash holds instead of its factory defaults, `identity`
    what no setting can change; `serve` is `pty`, `rfc2217`, `tcp` (bytes alone), `shelf`, or the path of a serial device;
    `port` is the TCP port (0: any); `trace` what a recording answers from; `wiring` which key, pin, power or reset the host's
    dtr and rts work, and which pin of the module drives the host's cts, dsr, dcd and ri (`!` before it: inverted); `pins` how
    its mode pins stand. A unit on the `shelf` has no port until it is swapped in. `board` is a pass-through board between host
    and module."""

    standin: str
    serve: str = "pty"
    port: int = 0
    powered: bool = True
    settings: dict[str, object] = msgspec.field(default_factory=dict)
    identity: dict[str, object] = msgspec.field(default_factory=dict)
    faults: WireFaults = WireFaults()
    trace: str = ""
    wiring: dict[str, str] = msgspec.field(default_factory=dict)
    pins: dict[str, bool] = msgspec.field(default_factory=dict)
    board: BoardTable | None = None


class RigFile(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A whole rig file."""

    format: int
    unit: dict[str, UnitTable]
    title: str = ""
    air: AirTable = msgspec.field(default_factory=AirTable)


class Unit:
    """A stand-in on the rig, and how it is served."""

    def __init__(self, name: str, table: UnitTable, standin: StandIn) -> None:
        self.name = name
        self.table = table
        self.standin = standin

    def work(self, do: str, what: str = "") -> None:
        """What operators do: `operate` an act, `power` on, off or cycle, `hold` or `release` a key. Raises ValueError."""
        standin = self.standin
        if do == "operate":
            standin.operate(what)
        elif do == "power" and what in ("on", "off"):
            standin.power(what == "on")
        elif do == "power" and what == "cycle":
            standin.cycle()
        elif do in ("hold", "release"):
            key = what or (standin.keys[0] if standin.keys else "")
            if key not in standin.keys:
                has = f"it has {', '.join(standin.keys)}" if standin.keys else "it has none"
                raise ValueError(f"{self.name} has no key {key}".rstrip() + f"; {has}")
            standin.key(key, do == "hold")
        elif do == "pin":
            pin, _, state = what.partition(" ")
            if pin not in standin.mode_pins or state not in ("high", "low"):
                has = ", ".join(standin.mode_pins) or "none"
                raise ValueError(f"{self.name} has no pin {pin}; it has {has}")
            standin.set_pin(pin, state == "high")
        elif do == "board" and standin.uart.near is None:
            raise ValueError(f"{self.name} has no pass-through board")
        elif do == "board":
            standin.operate(f"board {what}")
        else:
            raise ValueError(f"this rig cannot {do} {what}".rstrip())


class Rig:
    """All units of a rig, on one agenda."""

    def __init__(
        self,
        title: str,
        tables: dict[str, UnitTable],
        agenda: Agenda,
        air: Air | None,
        recorded: Callable[[str], Recorded],
    ) -> None:
        self.title = title
        self.agenda = agenda
        self.air = air = air or Air()
        self.units: dict[str, Unit] = {}
        for name, table in tables.items():
            made = family(table.standin)(agenda, name, table.settings, table.identity, table.faults, air)
            made.wiring = table.wiring
            if table.board:
                made.uart.near, made.uart.far = Tuning(table.board.near), Tuning(table.board.far)
            for pin, high in table.pins.items():
                made.set_pin(pin, high)
            # No two modules of a family are the same one.
            before = sum(unit.table.standin == table.standin for unit in self.units.values())
            made.another(before, flash=False)
            made.own |= table.identity
            if isinstance(made, Recording):
                made.load(recorded(table.trace))
            self.units[name] = Unit(name, table, made)

    def power_up(self) -> None:
        """Gives power to all units that the file wants powered."""
        for unit in self.units.values():
            unit.standin.power(unit.table.powered and unit.table.serve != "shelf")

    def unit(self, name: str) -> Unit:
        """The unit called `name`; raises ValueError with a suggestion."""
        if name not in self.units:
            raise ValueError(f"there is no unit {name} on this rig; {meant(name, self.units)}")
        return self.units[name]


def no_recordings(path: str) -> Recorded:
    """For a rig that has none."""
    raise CallFault("recordings cannot be read here", where=path)


KINDS = {
    bool: "true or false",
    int: "a whole number",
    str: "text in quotes",
    tuple: "an array of values",
    dict: "a table",
}


def _wrong_kind(value: object, kept: object) -> str:
    """What kind of value must replace `kept` in a stand-in's flash; "" if `value` is of that kind. An array becomes a tuple."""
    if kept is None or isinstance(kept, list):
        # Nothing as delivered, or any number of items.
        return "" if kept is None or isinstance(value, list) else "an array of values"
    kind = tuple if isinstance(value, list) else type(value)
    if kind is not type(kept):
        return KINDS[type(kept)]
    words = isinstance(kept, tuple) and all(isinstance(one, str) for one in kept)
    if words and isinstance(value, list) and not all(isinstance(one, str) for one in value):
        return "an array of texts"
    # An array of words may be of any length.
    if isinstance(value, list) and isinstance(kept, tuple) and kept and not words and len(value) != len(kept):
        return f"an array of {len(kept)} values"
    return ""


def read_rig(data: bytes, path: str, agenda: Agenda, recorded: Callable[[str], Recorded] = no_recordings) -> Rig:
    """The rig that a TOML file describes; `recorded` reads a trace. Raises FileFault with every
    complaint."""
    source = Source(data, path)
    source.check_top(RigFile.__struct_fields__)
    units = source.data.get("unit")
    if not isinstance(units, dict) or not units:
        source.complain(("unit",), "there is no unit", "a rig holds one table [unit.NAME] or more")
        units = {}
    tables: dict[str, UnitTable] = {}
    for name, given in units.items():
        table = source.typed(given, UnitTable, ("unit", name))
        if table is None:
            continue
        if table.standin not in FAMILIES:
            what = f"there is no stand-in {table.standin}"
            source.complain(("unit", name, "standin"), what, meant(table.standin, FAMILIES))
            continue
        if table.serve not in SERVES and not table.serve.startswith("/"):
            what = f"{table.serve!r} is not one of {', '.join(SERVES)}, nor the path of a serial device"
            source.complain(("unit", name, "serve"), what)
        if table.standin == "recording" and not table.trace:
            source.complain(("unit", name), "a recording has no trace", 'write trace = "FILE"')
        factory = family(table.standin).factory
        for key in table.settings:
            if key not in factory:
                source.complain(("unit", name, "settings", key), "it keeps no such thing", meant(key, factory))
            elif kind := _wrong_kind(table.settings[key], factory[key]):
                source.complain(("unit", name, "settings", key), f"is not {kind}")
        for key in table.identity:
            known = family(table.standin).identity
            if key not in known:
                source.complain(("unit", name, "identity", key), "it has no such identity", meant(key, known))
            elif kind := _wrong_kind(table.identity[key], known[key]):
                source.complain(("unit", name, "identity", key), f"is not {kind}")
        for pin in table.pins:
            if pin not in family(table.standin).mode_pins:
                pins = family(table.standin).mode_pins
                source.complain(("unit", name, "pins", pin), "it has no such pin", meant(pin, pins))
        tables[name] = table
    air = source.typed(source.data.get("air", {}), AirTable, ("air",))
    source.finish()
    return Rig(str(source.data.get("title", "")), tables, agenda, Air(air), recorded)
