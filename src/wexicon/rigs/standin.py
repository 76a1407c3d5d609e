"""What all stand-ins share: power, keys, flash and working memory, delays, and a line editor as modules have them.

The rule: a stand-in knows nothing of lexicons. It is a small state machine that hears bytes and says bytes, and its
only clock is the agenda that it is given. Flash outlives the power; working memory does not.
"""

from __future__ import annotations

import copy
import re
from collections.abc import Callable
from typing import Any, ClassVar

from wexicon.core.agenda import Agenda
from wexicon.core.text import to_bytes
from wexicon.core.tuning import Tuning
from wexicon.rigs.air import Air
from wexicon.rigs.uart import Uart, WireFaults

# How long a person takes the power away (seconds).
BY_HAND = 0.6


class StandIn:
    """A simulated module on a wire. `factory` are its factory defaults, `identity` what no
    setting can change, `keys` the names of its keys, `mode_pins` those of its mode pins, `output_pins` those that it drives."""

    family: ClassVar[str] = ""
    maker: ClassVar[str] = ""
    about: ClassVar[str] = ""
    factory: ClassVar[dict[str, Any]] = {}
    identity: ClassVar[dict[str, Any]] = {}
    keys: ClassVar[tuple[str, ...]] = ()
    mode_pins: ClassVar[tuple[str, ...]] = ()
    output_pins: ClassVar[tuple[str, ...]] = ()
    answers_in: ClassVar[float] = 0.005

    def __init__(
        self,
        agenda: Agenda,
        name: str = "",
        settings: dict[str, Any] | None = None,
        identity: dict[str, Any] | None = None,
        faults: WireFaults | None = None,
        air: Air | None = None,
    ) -> None:
        self.agenda = agenda
        self.air = air or Air()
        self.air.members.append(self)
        # Which control line of the host works which key or pin, or the power: set by the rig's file.
        self.wiring: dict[str, str] = {}
        self.pins: dict[str, bool] = {}
        self.name = name or self.family
        self.own = {**self.identity, **(identity or {})}
        self.flash: dict[str, Any] = {**copy.deepcopy(self.factory), **(settings or {})}
        # A rig file writes several numbers as an array; a stand-in keeps a tuple.
        for key, value in self.flash.items():
            if isinstance(value, list) and isinstance(self.factory.get(key), tuple):
                self.flash[key] = tuple(value)
        self.memory: dict[str, Any] = {}
        self.held: set[str] = set()
        self.uart = Uart(agenda, self, Tuning(), faults)
        self.supplied = False
        self._life = 0
        self._by_hand = 0

    # -- power and keys -----------------------------------------------------------------------------------------

    @property
    def powered(self) -> bool:
        return self.uart.powered

    def power(self, on: bool) -> None:
        """Switches the power on or off. A module that is fed through its data lines loses it only while these are low."""
        self.supplied = on
        on = on or (self.uart.faults.fed and self.powered and not self.uart.held_at_break)
        if on == self.powered:
            return
        self._life += 1
        self.uart.power(on)
        self.start() if on else self.stopped()

    def break_changed(self) -> None:
        """The host holds its line at break, or lets it go."""
        if self.uart.faults.fed and not self.supplied and self.powered == self.uart.held_at_break:
            self._life += 1
            self.uart.power(not self.powered)
            self.start() if self.powered else self.stopped()

    def start(self) -> None:
        """After power-up and after a restart: working memory is as flash says."""
        self.memory = copy.deepcopy(self.flash)
        self.started()
        if self.uart.faults.restarts:
            self.after(self.uart.faults.restarts, self.restart)

    def restart(self) -> None:
        """Starts again as a command makes it do, once what it says is sent."""
        self._life += 1
        self.stopped()
        self.uart.power(True)
        self.start()

    def cycle(self, off: float = 0.2) -> None:
        """Switches the power off for `off` seconds."""
        self.by_hand((0, lambda: self.power(False)), (off, lambda: self.power(True)))

    def by_hand(self, *moves: tuple[float, Callable[[], object]]) -> None:
        """Schedules an operator's moves, each at its seconds from now; a new call cancels the rest of the last."""
        self._by_hand += 1
        this = self._by_hand
        for delay, move in moves:
            if delay:
                self.agenda.after(delay, lambda move=move: move() if this == self._by_hand else None)  # type: ignore[misc]
            else:
                move()

    def key(self, name: str, held: bool) -> None:
        """Holds a key or lets it go."""
        moved = held != (name in self.held)
        (self.held.add if held else self.held.discard)(name)
        if self.powered and moved:
            self.key_moved(name, held)

    def lost_power(self) -> None:
        self.cycle()

    # -- what each stand-in does in its own way -------------------------------------------------------------------

    def started(self) -> None:
        """The module has just started."""

    def stopped(self) -> None:
        """It has lost its power, or starts again: whatever it has open is closed."""

    def key_moved(self, name: str, held: bool) -> None:
        """A key was moved while the module has power."""

    def lines_changed(self) -> None:
        """DTR or RTS was moved: whatever they are wired to moves with them. `!` stands for inverted."""
        for line, on in (("dtr", self.uart.dtr), ("rts", self.uart.rts)):
            target = self.wiring.get(line, "")
            state = on != target.startswith("!")
            name = target.lstrip("!")
            if name == "power":
                self.power(state)
            elif name == "reset":
                if state and self.powered:
                    self.restart()
            elif name in self.keys:
                self.key(name, state)
            elif name:
                self.set_pin(name, state)

    def drive(self, name: str, on: bool) -> None:
        """It drives one of its pins: the host's lines that are wired to it move with it. `!` stands for inverted."""
        for line, target in self.wiring.items():
            if line in self.uart.outputs and target.lstrip("!") == name:
                self.uart.drive(line, on != target.startswith("!"))

    def set_pin(self, name: str, state: bool) -> None:
        """Puts a mode pin high or low."""
        if self.pins.get(name) != state:
            self.pins[name] = state
            if self.powered:
                self.pin_moved(name)

    def pin_moved(self, name: str) -> None:
        """A mode pin was moved while the module has power."""

    # -- the air --------------------------------------------------------------------------------------------------

    def reaches(self, other: StandIn) -> bool:
        """Whether its settings let it reach another stand-in by radio; both sides are asked."""
        return False

    def from_air(self, data: bytes, sender: StandIn) -> None:
        """Bytes have come by radio."""
        self.uart.send(data)

    def visible_name(self) -> str:
        """What others see of it while they scan, or nothing."""
        return ""

    def registered(self) -> bool:
        """Whether a cellular network knows it."""
        return False

    def heard(self, data: bytes, began: float) -> None:
        """Bytes have come in."""

    def operate(self, act: str) -> None:
        """What a person at the bench does when asked for `act`."""
        if act == "power-cycle":
            self.cycle(BY_HAND)
        elif act in ("power-off", "power-on"):
            self.by_hand((0, lambda: self.power(act == "power-on")))
        elif act.startswith("board "):
            # A person sets the far side of the pass-through board, as asked.
            rate, _, frame = act.removeprefix("board ").partition(" ")
            self.uart.far = Tuning.of(int(rate), frame or "8N1")
        elif act == "swap":
            self.by_hand((0, lambda: self.power(False)), (0.2, self.another), (0.3, lambda: self.power(True)))

    def another(self, by: int = 1, *, flash: bool = True) -> None:
        """Another module of the family takes its place: with the identity `by` after this one; as it left
        the factory, unless `flash` is false."""
        if flash:
            self.forget()
        for key in ("address", "serial", "imei", "imsi", "iccid", "number"):
            if key in self.own:
                self.own[key] = _after(self.own[key], by)

    # -- helpers ------------------------------------------------------------------------------------------------

    def after(self, delay: float, action: Callable[[], object]) -> None:
        """Does `action` in `delay` seconds, unless the power goes or the module restarts before."""
        life = self._life
        self.agenda.after(delay, lambda: action() if life == self._life and self.powered else None)

    def say(self, text: str | bytes, delay: float | None = None) -> None:
        """Says bytes after the usual time to think (or `delay` seconds)."""
        data = text if isinstance(text, bytes) else to_bytes(text)
        wait = (self.answers_in if delay is None else delay) + self.uart.faults.late
        self.after(wait, lambda: self._sent(data))

    def _sent(self, data: bytes) -> None:
        self.uart.send(data)

    def then(self, action: Callable[[], object], delay: float | None = None) -> None:
        """Does `action` once all that it has said so far is on the wire (said with the same delay)."""
        wait = (self.answers_in if delay is None else delay) + self.uart.faults.late
        self.after(wait, lambda: self.after(max(0.0, self.uart.send(b"") - self.agenda.now), action))

    def keep(self) -> None:
        """Working memory to flash."""
        self.flash = copy.deepcopy(self.memory)

    def forget(self) -> None:
        """Flash as it left the factory."""
        self.flash = copy.deepcopy(self.factory)


def _after(identity: Any, by: int) -> Any:
    """An identity after this one: its last digits counted on."""
    if isinstance(identity, int):
        return identity + by
    digits = re.search(r"[0-9]{1,5}$|(?<=[0-9A-F]{8})[0-9A-F]{4}$", identity)
    if not digits:
        return identity
    base = 10 if digits[0].isdigit() else 16
    number = (int(digits[0], base) + by) % base ** len(digits[0])
    text = f"{number:0{len(digits[0])}{'d' if base == 10 else 'X'}}"
    return identity[: digits.start()] + text


class LineEditor:
    """Gathers bytes to lines as a module with a fixed line end does; reports the wrong line ends as well.

    `line` is called with each line, `wrong` for a line that ended otherwise. After a CR that should be CR LF the
    module waits `patience` seconds for the LF.
    """

    def __init__(
        self,
        module: StandIn,
        end: str,
        line: Callable[[str], None],
        wrong: Callable[[], object],
        patience: float = 0.05,
        longest: int = 512,
    ) -> None:
        self.module, self.end, self.line, self.wrong = module, end, line, wrong
        self.patience, self.longest = patience, longest
        self._buffer = bytearray()
        self._waits_for_lf = False
        self._ends = 0

    def feed(self, data: bytes) -> None:
        for byte in data:
            char = chr(byte)
            if self._waits_for_lf:
                self._waits_for_lf = False
                if char == "\n":
                    self._finish()
                    continue
                self._fail()
            if char in self.end or char in "\r\n":
                self._ended(char)
            elif len(self._buffer) < self.longest:
                self._buffer.append(byte)

    def _ended(self, char: str) -> None:
        if char == self.end:
            self._finish()
        elif self.end == "\r\n" and char == "\r":
            self._waits_for_lf = True
            self._ends += 1
            this = self._ends
            self.module.after(self.patience, lambda: self._give_up(this))
        elif self._buffer:
            self._fail()

    def _give_up(self, end: int) -> None:
        if self._waits_for_lf and self._ends == end:
            self._waits_for_lf = False
            self._fail()

    def _finish(self) -> None:
        text = bytes(self._buffer).decode("utf-8", "surrogateescape")
        self._buffer.clear()
        if text:
            self.line(text)

    def _fail(self) -> None:
        self._buffer.clear()
        self.wrong()
