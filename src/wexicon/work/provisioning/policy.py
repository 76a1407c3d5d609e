"""What follows from an order and what was read: what to read, write, save and start. `--plan` and the run share it.

The rule: pure functions, which ask no module and change nothing.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence

import msgspec

from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.formats.lexicon.extending import shaping
from wexicon.core.formats.sheet import Image, Seat
from wexicon.core.results.result import Evidence, Prove, Tests
from wexicon.core.text import visible
from wexicon.core.tuning import Tuning
from wexicon.core.values import UNSET, Value
from wexicon.work.provisioning.facts import SettingFacts


class Order(msgspec.Struct, frozen=True):
    """The wanted values of a unit, already checked (see `sheet`); the proof required; for which
    settings the module's word is enough. `plan` if it may only ask questions."""

    wanted: Mapping[str, Value] = {}
    prove: Prove = Prove.AUTO
    trust: tuple[str, ...] = ()
    sheet: str = ""
    # Only read, and work out what would be said.
    plan: bool = False
    # A dialogue has said something before: what it set is saved, and lives through the start that proves.
    touched: bool = False
    # The firmware image that it needs.
    image: Image | None = None
    # Whether settings that are not wanted otherwise go back to their factory defaults.
    others: bool = False
    # The answers are those of a recording: no start can be observed.
    replayed: bool = False
    # Settings that are not wanted and may change.
    side_effects: tuple[str, ...] = ()
    # Which module it has to be, as the register calls it; any, where this is empty.
    unit: str = ""


class SheetOrder(msgspec.Struct, frozen=True, kw_only=True):
    """What to do with the units of a sheet. `write`: provision, else verify; `prove` is the evidence required; `plan`: a dry
    run; `again` overrides the register's match of module and unit; `new_ports` also uses ports that appear; `stop_after`
    starts no unit after that many failures (0: no limit); `tests` are those of the sheet's tests that are run; `restores` is
    the module whose earlier settings these are, as the register calls it: only that one is written to; `scan` waits for a
    line that names the row or the unit before each."""

    write: bool = True
    prove: Prove = Prove.AUTO
    plan: bool = False
    again: bool = False
    new_ports: bool = False
    stop_after: int = 0
    tests: Tests = Tests.ALL
    restores: str = ""
    scan: bool = False

    @property
    def did(self) -> str:
        """What the register calls it."""
        return "restore" if self.restores else "provision" if self.write else "verify"

    def for_unit(self, seat: Seat, wanted: Mapping[str, Value], sheet: str, *, touched: bool = False) -> Order:
        """The order for one unit of a seat with its values; `sheet` is the sheet's digest."""
        return Order(
            wanted,
            self.prove,
            seat.trust,
            sheet,
            self.plan,
            touched,
            image=seat.image,
            others=seat.others,
            unit=self.restores,
            side_effects=seat.side_effects,
        )


def factory_defaults(order: Order, lexicon: Lexicon, has: Callable[[str], bool]) -> tuple[dict[str, Value], list[str]]:
    """The factory default of each setting that the order does not name, and those that cannot be brought there; `has` is
    whether the module has a setting."""
    found: dict[str, Value] = {}
    left = []
    for name, setting in lexicon.settings.items():
        if name in order.wanted or not has(name):
            continue
        wanted = {**order.wanted, **found}
        unmet = any(need in wanted and wanted[need] != value for need, value in setting.needs.items())
        both_ways = setting.readable and setting.writable
        if setting.factory is None or not both_ways or (unmet and setting.factory is not UNSET):
            left.append(name)
        else:
            found[name] = setting.factory
    return found, left


def likely_links(order: Order, lexicon: Lexicon, known: Sequence[Tuning]) -> list[Tuning]:
    """The links to try first: those that are known, the factory default, the wanted one."""
    wanted = lexicon.factory
    for name, value in order.wanted.items():
        if value is not UNSET:
            wanted = lexicon.settings[name].kind.apply_to(wanted, value)
    return [*known, lexicon.factory, wanted]


def names_to_read(order: Order, lexicon: Lexicon, has: Callable[[str], bool]) -> list[str]:
    """All settings that the module has, or those wanted and those that they need."""
    wanted = order.wanted
    needed = {need for name in wanted for need in lexicon.settings[name].needs}
    if any(name in wanted for name in shaping(lexicon)):
        needed.update(shaping(lexicon))
    names = [name for name in lexicon.settings if not wanted or name in wanted or name in needed]
    return [name for name in names if has(name)]


def lacking(order: Order, lexicon: Lexicon, has: Callable[[str], bool], firmware: str) -> str:
    """Why the first wanted setting that this firmware lacks cannot be written; empty if it has all."""
    for name in order.wanted:
        if not has(name):
            setting = lexicon.settings[name]
            since = f"from {setting.since} on" if setting.since else f"before {setting.before}"
            return f"this module's firmware {visible(firmware)} has no {name}; available {since}"
    return ""


def differing(lines: Iterable[SettingFacts], *, first: bool) -> list[SettingFacts]:
    """What is not as it should be; what cannot be read goes before it, at first, and again where a start has undone anything:
    then no acknowledgement since the last save that held counts."""
    open_ = [one for one in lines if not one.refused]
    wrong = [one for one in open_ if one.setting.readable and not one.right()]
    undone = any(not one.setting.volatile for one in wrong)
    blind = [one for one in open_ if not one.setting.readable] if first or undone else []
    return [*blind, *wrong]


def saved_by(lexicon: Lexicon, lines: Iterable[SettingFacts]) -> list[str]:
    """The actions that make these settings persist, but for the restart: that is the start that proves."""
    own = [line for line in lines if not line.refused and not line.setting.volatile]
    actions = [name for line in own for name in line.setting.then]
    ranked = dict.fromkeys([*lexicon.order, *actions])
    return [name for name in ranked if name in actions and not lexicon.actions[name].restarts]


def leaves_command_mode(lexicon: Lexicon, lines: Iterable[SettingFacts]) -> bool:
    """Whether writing these settings ends command mode."""
    actions = [lexicon.actions[name] for line in lines for name in line.setting.then]
    return any(action.restarts or action.ends_attention for action in actions)


def start_by(lexicon: Lexicon, lines: Iterable[SettingFacts], how: Evidence, *, due: bool) -> Evidence:
    """How the module is started: as asked; where what was written takes effect only with a start, and one is `due`, by the
    lexicon's restart at least."""
    restarts = any(lexicon.actions[name].restarts for line in lines for name in line.setting.then)
    return Evidence.RESTART if how is Evidence.READING and due and restarts and lexicon.restart() else how


def is_pending(line: SettingFacts, lexicon: Lexicon, here: Tuning, *, fixed: bool) -> bool:
    """Whether the module keeps a rate at which it does not answer `here`: then it has yet to start with it. Behind a board
    our side is `fixed`."""
    kind = line.setting.kind
    if lexicon.attention.tuning or not kind.rates() or line.setting.from_link or fixed:
        return False
    latest = line.after
    return latest is not None and latest.value is not None and kind.apply_to(here, latest.value) != here


def unsaved(todo: Iterable[SettingFacts]) -> list[str]:
    """The settings that read right and are written anyway: they were not saved. One that a power cycle clears cannot be."""
    return [
        line.setting.name
        for line in todo
        if not line.setting.volatile
        and not line.written
        and line.before is not None
        and line.before.value == line.wanted
    ]


def gone_with(order: Order, lexicon: Lexicon) -> set[str]:
    """The settings that need another value than is wanted of a setting: they go with it."""
    return {
        name
        for name, setting in lexicon.settings.items()
        if any(order.wanted.get(need, value) != value for need, value in setting.needs.items())
    }


def may_change(order: Order, lexicon: Lexicon, name: str) -> str:
    """Why a setting that was not ordered may differ after the walk; empty if it may not."""
    setting = lexicon.settings[name]
    by = [one for one in order.wanted if name in lexicon.settings[one].also_changes]
    if by:
        return f"the lexicon says that {by[0]} also changes it"
    if name in gone_with(order, lexicon):
        return "it needs another value of what was written"
    if setting.volatile:
        return "a power cycle clears it"
    return "the sheet allows it" if name in order.side_effects else ""


def missing_sign(lexicon: Lexicon, ordered: Evidence, witness: str) -> str:
    """What would have shown a start that was ordered and that nothing shows."""
    signs = [f"its ready text “{visible(ready.source)}”"] if (ready := lexicon.start.ready) else []
    signs += (
        ["silence while its power was off"]
        if ordered is Evidence.POWER
        else ["silence for longer than an answer takes"]
    )
    signs += [f"an unsaved change of {witness} undone"] if witness and ordered is not Evidence.POWER else []
    what = "power cycle" if ordered is Evidence.POWER else "restart"
    return f"a {what} was ordered, and nothing shows that the module started; not seen: {', '.join(signs)}"
