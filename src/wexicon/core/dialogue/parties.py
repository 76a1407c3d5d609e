"""The parties of a dialogue: modules on their ports, and sockets of this machine.

The rule: all parties are read all the time; events of each are queued until an `await` takes them.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

from wexicon.core.dialogue.acting import ModuleActions
from wexicon.core.operator import NoOperator, Operator
from wexicon.core.protocol.session import Session


class Party:
    """One side of a dialogue. `module` does what its lexicon says; `data` is whether what is said is passed on as it is, as a
    socket and a module in data mode do. `listen` enters command mode, `pass_data` makes ready for data mode; `held` is whether
    it still takes commands, as far as known: an action may have ended that."""

    def __init__(
        self,
        name: str,
        session: Session,
        module: ModuleActions | None = None,
        operator: Operator | None = None,
        *,
        is_socket: bool = False,
        listen: Callable[[], object] | None = None,
        pass_data: Callable[[], object] | None = None,
        held: Callable[[], bool] = lambda: True,
    ) -> None:
        self.name = name
        self.session = session
        self.module = module
        self.operator = operator or NoOperator()
        self.is_socket = self.data = is_socket
        self._listen = listen
        self._pass_data = pass_data
        self._held = held
        self._listens = listen is None
        # When the last exchange began; and when it changed its mode, or an operator was asked to do something with it: events
        # of before are over.
        self.began = self.fresh_since = session.clock.now()
        # The values whose lengths the other side has just been told, and whether it has just sent a prompt.
        self.counted: dict[str, object] = {}
        self.prompted = False

    def be_listening(self) -> None:
        """Enters command mode, if that was not done since it was left. Raises Fault."""
        if self._listen and not self.data and not (self._listens and self._held()):
            self._listens = True
            self.fresh_since = self.session.clock.now()
            self._listen()

    def turn_to_data(self) -> None:
        """From now on it passes everything on."""
        if not self.data:
            self.data, self._listens = True, False
            self.fresh_since = self.session.clock.now()
            if self._pass_data:
                self._pass_data()

    def turn_to_commands(self) -> None:
        """From now on it takes commands again, once command mode was entered."""
        self.data = self.is_socket


def hear_each_other(parties: Sequence[Party]) -> None:
    """While one of these is waited for, the others are heard too."""
    for party in parties:
        party.session.beside = tuple(other.session for other in parties if other is not party)
