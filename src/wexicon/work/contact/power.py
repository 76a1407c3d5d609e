"""Switches a module's power by a fixture or a rig: pins that are put back after a kill, and the fixture's own programs.

The rule: while the power is off, a module that answered just before is asked, and must be silent. A pin is written down before
it is driven, and power and pins are restored on every way out. A program gets no shell and none of our secrets, and may not
take long.
"""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from hashlib import sha256
from pathlib import Path

import msgspec

from wexicon.core.faults import CallFault, CannotTune, Fault
from wexicon.core.formats.fixture import Fixture
from wexicon.core.formats.lexicon import AttentionTable
from wexicon.core.operator import Operator
from wexicon.core.text import to_text, visible
from wexicon.files import read_record, write_whole
from wexicon.programs import run_program
from wexicon.work.contact.ledger import Observer, PowerOff, PowerOn

# How long the power is off (seconds), and how often the module is asked meanwhile.
POWER_OFF = 0.3
ASKED_WITHOUT_POWER = 2
ANSWERS_WITHOUT_POWER = "the module answers while its power is off: "
FED = "it is fed through its data lines, and has no power while these are held low"
DEAD_PIN = "what was to take the power away does nothing"


class PowerSwitch:
    """The power of one module, as `attention` names its pin."""

    def __init__(self, observer: Observer, fixture: Fixture, operator: Operator, attention: AttentionTable) -> None:
        self.observer = observer
        self.session = observer.session
        self.fixture = fixture
        self.operator = operator
        self.pin = attention.power
        self._needed = attention.power_up and not attention.window

    def there(self) -> bool:
        """Whether the power can be switched without a person."""
        return self.fixture.has([self.pin]) or self.operator.switches_power

    def cut(self, answers: Callable[[], bool], *, stays_off: bool = False) -> list[str]:
        """Takes the power away and gives it back, unless it `stays_off` for the rig to do that with the key held. `answers`
        asks the module; returns what is wrong with the supply, in words."""
        session, ledger = self.session, self.observer.ledger
        own, here = session.link.tuning, self.observer.answered_at
        answered = here is not None and ledger.just_answered(str(here))
        if here is not None and answered:
            session.tune(here)
        told: list[str] = []
        with self._off(stays_off=stays_off):
            off = session.clock.now()
            session.quiet(POWER_OFF)
            # What was on its way when the power went is no sign of a module that still has power.
            self.observer.catch_up()
            ledger.note(PowerOff(off, self._needed))
            if answered and self._any(answers):
                told.append(ANSWERS_WITHOUT_POWER + self._why(answers))
        ledger.note(PowerOn(session.clock.now()))
        session.tune(own)
        return told

    @contextmanager
    def _off(self, *, stays_off: bool) -> Iterator[None]:
        if self.fixture.has([self.pin]):
            with self.fixture.restored(self.session, {self.pin: True}):
                self.fixture.drive(self.session, {self.pin: False})
                yield
            return
        try:
            self.operator.ask("power-off", "")
            yield
        except BaseException:
            self.operator.ask("power-on", "")
            raise
        if not stays_off:
            self.operator.ask("power-on", "")

    def _why(self, answers: Callable[[], bool]) -> str:
        """Why it answers: a break on the data line takes the power of one that is fed through that."""
        try:
            self.session.hold_break(POWER_OFF)
        except CannotTune:
            return f"{DEAD_PIN}, or it is fed through its data lines"
        return DEAD_PIN if self._any(answers) else FED

    @staticmethod
    def _any(answers: Callable[[], bool]) -> bool:
        return any(answers() for _ in range(ASKED_WITHOUT_POWER))


class PinRecord:
    """The pins that have to be put back, a file for each port in a folder."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder

    def _path(self, port: str) -> Path:
        return self.folder / f"{sha256(port.encode()).hexdigest()[:32]}.json"

    def begin(self, port: str, states: dict[str, bool]) -> None:
        """These pins of a port have to be put to these states."""
        write_whole(self._path(port), msgspec.json.encode({**self.left(port), **states}))

    def end(self, port: str, states: dict[str, bool]) -> None:
        """These pins were put back."""
        left = {name: on for name, on in self.left(port).items() if name not in states}
        if left:
            write_whole(self._path(port), msgspec.json.encode(left))
        else:
            with contextlib.suppress(FileNotFoundError):
                self._path(port).unlink()

    def left(self, port: str) -> dict[str, bool]:
        """The pins of a port that were not put back, and their states."""
        try:
            return read_record(self._path(port), dict[str, bool]) or {}
        except CallFault:
            return {}


LONGEST, LONGEST_AFTER = 10.0, 60.0


def run_command(command: str, given: bytes = b"", longest: float = LONGEST) -> str:
    """Runs a command with `given` on its standard input, and waits for its end, at most `longest` seconds; what it printed.
    Raises Fault."""
    import shlex
    import subprocess

    try:
        done = run_program(shlex.split(command), longest, given)
    except (OSError, ValueError) as fault:
        why = getattr(fault, "strerror", None) or fault
        raise Fault(f"the fixture's command “{visible(command)}” cannot be run: {why}") from None
    except subprocess.TimeoutExpired:
        raise Fault(f"the fixture's command “{visible(command)}” takes longer than {longest:.0f} s") from None
    if done.returncode:
        told = visible((done.stderr or done.stdout).strip()[:300])
        raise Fault(f"the fixture's command “{visible(command)}” failed with status {done.returncode}: {told}")
    return to_text(done.stdout)
