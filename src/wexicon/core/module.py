"""A module as its lexicon lets one see it: settings to read and write, actions to do, on one session.

The rule: every line goes through one exchange, and every reply is checked; secrets are shown nowhere. What the words mean is
the lexicon's, when they are said is the caller's.
"""

from __future__ import annotations

from typing import Any

from wexicon.core.dialogue.holder import Holder
from wexicon.core.exchange import Outcome
from wexicon.core.faults import ModuleFault, Part
from wexicon.core.insertion import InsertionFault
from wexicon.core.lexicon import Lexicon, Phrase, Setting
from wexicon.core.operator import Operator
from wexicon.core.session import HIDDEN, Session
from wexicon.core.values import Value, ValueFault, retuned


class Refused(ModuleFault):
    """The module understood and said no."""


class Module:
    """`attentive` is whether it listens; `data_link` how its data mode is tuned as far as we know; `moving` what is to be
    done to our side of the link once an action makes a written setting count."""

    def __init__(self, session: Session, lexicon: Lexicon, operator: Operator) -> None:
        self.session = session
        self.lexicon = lexicon
        self.operator = operator
        self.data_link = lexicon.delivered
        self.attentive = False
        self._moving: list[tuple[str, Setting, Value]] = []

    # -- asking -------------------------------------------------------------------------------------------------

    def ask(self, phrase: Phrase, *, secret: bool = False) -> Outcome:
        """Asks something harmless; what fails is asked once more after a silence."""
        said = phrase.say.fill({})
        shown = said if secret else None
        outcome = self.session.exchange(said, phrase.expect, phrase.within, shown=shown)
        if outcome.ok:
            return outcome
        self.session.settle(0.05, 0.5)
        return self.session.exchange(said, phrase.expect, phrase.within, shown=shown)

    def identify(self) -> dict[str, str]:
        """What the module says of itself; one that is not what the lexicon speaks for is refused."""
        identity: dict[str, str] = {}
        for phrase in self.lexicon.identify:
            outcome = self.ask(phrase)
            if not outcome.ok:
                raise self.fault("the module does not say who it is as this family does", outcome)
            identity.update({name: str(value) for name, value in outcome.captures.items()})
        for name, wanted in self.lexicon.expect.items():
            found = identity.get(name, "")
            if found != wanted:
                raise ModuleFault(
                    f"this is another module: its {name} is {found}, the lexicon speaks for {wanted}",
                    where=self.session.link.name,
                    hint="Nothing was changed. Put the right module on this port, or name its lexicon.",
                )
        return identity

    # -- settings -----------------------------------------------------------------------------------------------

    def read(self, name: str) -> Value:
        """The value of a setting."""
        setting = self.lexicon.setting(name)
        if setting.read is None:
            raise ModuleFault(f"{name} cannot be read", where=self.session.link.name)
        outcome = self.ask(setting.read, secret=setting.secret)
        if not outcome.ok:
            raise self.fault(f"{name} cannot be read", outcome)
        try:
            return setting.kind.decode(str(outcome.captures["value"]))
        except ValueFault as fault:
            raise self.fault(f"{name}: the module's answer is not understood: it {fault.why}", outcome) from None

    def write(self, name: str, value: Value) -> None:
        """Writes a plain value. Raises Refused where the module says no."""
        setting = self.lexicon.setting(name)
        if setting.write is None:
            raise ModuleFault(f"{name} cannot be written", where=self.session.link.name)
        try:
            said = setting.write.say.fill({"value": setting.kind.encode(value)}, quoting=self.session.speech.quotes)
        except InsertionFault as fault:
            raise ModuleFault(f"{name}: {fault}") from None
        shown = setting.write.say.fill({"value": HIDDEN}) if setting.secret else None
        outcome = self.session.exchange(said, setting.write.expect, setting.write.within, shown=shown)
        if outcome.how == "error":
            meaning = self.meaning(outcome.code) or "no meaning known"
            what = f"error {outcome.code}: {meaning}" if outcome.code else "the module said no"
            raise Refused(what, part=_part(outcome), where=self.session.link.name)
        if not outcome.ok:
            raise self.fault(f"{name}: the module did not confirm the new value", outcome)
        if setting.moves_link == "at-once":
            self._retune(setting, value)
        elif setting.moves_link:
            self._moving.append((setting.moves_link, setting, value))

    def set(self, name: str, value: Any) -> None:
        """Checks any value, then writes it. Raises ValueFault before a byte is sent."""
        self.write(name, self.lexicon.setting(name).kind.check(value))

    def _retune(self, setting: Setting, value: Value) -> None:
        """Follows the link, or remembers it where command mode has a rate of its own."""
        if self.lexicon.attention.tuning:
            self.data_link = retuned(self.data_link, setting.kind, value)
        else:
            self.data_link = retuned(self.session.link.tuning, setting.kind, value)
            self.session.tune(self.data_link)

    # -- actions ------------------------------------------------------------------------------------------------

    def do(self, name: str) -> dict[str, Any]:
        """Has the module do something, checking each reply, and follows the link where that moves it. Gives what the
        action's dialogue kept."""
        actions = self.lexicon.actions
        if name not in actions:
            raise KeyError(f"the lexicon of {self.lexicon.about.family} has: {', '.join(actions) or 'no action'}")
        action = actions[name]
        held = Holder(self.session, action.program, module=self, operator=self.operator).hold()
        if action.ends_attention:
            self.attentive = False
        for when, setting, value in self._moving:
            if when == name:
                self._retune(setting, value)
        self._moving = [moving for moving in self._moving if moving[0] != name]
        return held.kept

    # -- failure ------------------------------------------------------------------------------------------------

    def meaning(self, code: str) -> str:
        """What an error number means, or nothing."""
        return self.lexicon.errors.get(code, "")

    def fault(self, what: str, outcome: Outcome) -> ModuleFault:
        """The fault of an exchange that did not end well."""
        if outcome.how == "error":
            meaning = self.meaning(outcome.code)
            what += f": error {outcome.code}" + (f" ({meaning})" if meaning else "") if outcome.code else ": it said no"
        elif outcome.how == "silence":
            what += ": no answer" if not outcome.heard else ": no full answer"
        elif outcome.how == "closed":
            what += ": the answer lacks what was expected"
        return ModuleFault(what, part=_part(outcome), where=self.session.link.name)


def _part(outcome: Outcome) -> Part:
    return Part(outcome.said, outcome.expected, outcome.heard, outcome.waited)
