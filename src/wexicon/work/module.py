"""A module as its lexicon lets one see it: settings to read and write, actions to do, on one session.

The rule: every line goes through one exchange, and every reply is checked; secrets are shown nowhere. What the words mean is
the lexicon's, when they are said is the caller's.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from typing import Any

from wexicon.core.dialogue.runner import Holder
from wexicon.core.faults import ModuleFault, Part
from wexicon.core.formats.blocks import BlockFault, bits_of, put_bits, take_block
from wexicon.core.formats.lexicon import Group, Lexicon, Phrase, Setting
from wexicon.core.operator import Operator
from wexicon.core.protocol.exchange import Outcome
from wexicon.core.protocol.insertion import InsertionFault
from wexicon.core.protocol.session import HIDDEN, Session
from wexicon.core.text import visible
from wexicon.core.values import Value, ValueFault, retuned


class Refused(ModuleFault):
    """The module understood and said no."""


class Module:
    """`attentive` is whether it listens; `data_link` how its data mode is tuned as far as we know; `identity` what it said of
    itself. `regain` gets its attention again."""

    def __init__(self, session: Session, lexicon: Lexicon, operator: Operator) -> None:
        self.session = session
        self.lexicon = lexicon
        self.operator = operator
        self.data_link = lexicon.delivered
        self.attentive = False
        self.identity: dict[str, str] = {}
        self.regain: Callable[[], None] | None = None
        self._moving: list[tuple[str, Setting, Value]] = []
        self._spoke_at = session.clock.now()
        self._blocks: dict[str, bytes] = {}

    # -- asking -------------------------------------------------------------------------------------------------

    def _exchange(self, said: str, phrase: Phrase, shown: str | None) -> Outcome:
        """One exchange, with its attention."""
        self._attend()
        outcome = self.session.exchange(said, phrase.expect, phrase.within, shown=shown)
        self._spoke_at = self.session.clock.now()
        return outcome

    def _attend(self) -> None:
        """Takes the attention back if the module has let it go, by itself or because of what it was told."""
        lasts = self.lexicon.attention.lasts
        over = bool(lasts) and self.session.clock.now() - self._spoke_at > lasts * 0.8
        if self.regain and (over or not self.attentive):
            self.session.decide("it listens no more by now; attention is taken back")
            self.regain()
            self.attentive = True

    def ask(self, phrase: Phrase, values: Mapping[str, Any] | None = None, *, secret: bool = False) -> Outcome:
        """Asks something harmless; what fails is asked once more after a silence."""
        said = phrase.say.fill(values or {})
        shown = said if secret else None
        outcome = self._exchange(said, phrase, shown)
        if outcome.ok:
            return outcome
        self.session.settle(0.05, 0.5)
        return self._exchange(said, phrase, shown)

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
                    f"this is another module: its {name} is {visible(found)}, the lexicon speaks for {wanted}",
                    where=self.session.link.name,
                    hint="Nothing was changed. Put the right module on this port, or name its lexicon.",
                )
        self.identity = identity
        return identity

    def has(self, name: str) -> bool:
        """Whether this module's firmware has the setting."""
        setting = self.lexicon.setting(name)
        firmware = self.identity.get(self.lexicon.firmware, "")
        return not firmware or setting.there(firmware)

    # -- reading ------------------------------------------------------------------------------------------------

    def read(self, name: str) -> Value:
        """The value of a setting."""
        found = self.read_many([name])
        if name not in found:
            raise ModuleFault(f"{name} cannot be read", where=self.session.link.name)
        return found[name]

    def read_many(self, names: Iterable[str]) -> dict[str, Value]:
        """All settings among `names` that can be read and that this firmware has; a group is asked once."""
        found: dict[str, Value] = {}
        groups: dict[str, dict[str, str]] = {}
        for name in names:
            setting = self.lexicon.setting(name)
            if not setting.readable or not self.has(name):
                continue
            if setting.read:
                outcome = self.ask(setting.read, secret=setting.secret)
                if not outcome.ok:
                    raise self.fault(f"{name} cannot be read", outcome)
                text = str(outcome.captures["value"])
            else:
                assert setting.group
                if setting.group.name not in groups:
                    groups[setting.group.name] = self._read_group(setting.group)
                text = groups[setting.group.name][name]
            found[name] = self._decoded(setting, text)
        return found

    def granted(self, name: str) -> Value | None:
        """What the network made of a setting; None where nobody can tell."""
        setting = self.lexicon.setting(name)
        if setting.granted is None:
            return None
        outcome = self.ask(setting.granted)
        if not outcome.ok or not str(outcome.captures.get("value", "")):
            return None
        return self._decoded(setting, str(outcome.captures["value"]))

    def _read_group(self, group: Group) -> dict[str, str]:
        assert group.read
        members = [setting for setting in self.lexicon.settings.values() if setting.group is group]
        outcome = self.ask(group.read, secret=any(setting.secret for setting in members))
        if not outcome.ok:
            raise self.fault(f"{group.name} cannot be read", outcome)
        if not group.size:
            return {name: str(value) for name, value in outcome.captures.items()}
        try:
            block = take_block(group, str(outcome.captures["block"]))
        except BlockFault as fault:
            raise self.fault(f"{group.name}: {fault}", outcome) from None
        self._blocks[group.name] = block
        return {setting.name: str(bits_of(block, setting.place)) for setting in members if setting.place}

    def _decoded(self, setting: Setting, text: str) -> Value:
        if setting.appends:
            text = text.removesuffix(setting.appends.fill(self.identity))
        try:
            return setting.kind.decode(text)
        except ValueFault as fault:
            raise ModuleFault(
                f"{setting.name}: the module's answer is not understood: it {fault.why}",
                part=Part(heard=[HIDDEN if setting.secret else text]),
                where=self.session.link.name,
            ) from None

    # -- writing ------------------------------------------------------------------------------------------------

    def write(self, values: Mapping[str, Value], others: Mapping[str, Value] | None = None) -> None:
        """Writes plain values: one setting, or settings of one group together. `others` are the values that the rest of the
        group has. Raises Refused where the module says no."""
        names = list(values)
        setting = self.lexicon.setting(names[0])
        what = ", ".join(names)
        if setting.write:
            phrase = setting.write
            filled: dict[str, Any] = {"value": setting.kind.encode(values[names[0]])}
        elif setting.group and setting.group.write:
            phrase = setting.group.write
            filled = self._group_fields(setting.group, values, others or {})
        else:
            raise ModuleFault(f"{what} cannot be written", where=self.session.link.name)
        try:
            said = phrase.say.fill(filled, quoting=self.session.speech.quotes)
        except InsertionFault as fault:
            raise ModuleFault(f"{what}: {fault}") from None
        secret = (
            any(self.lexicon.settings[name].secret for name in filled if name in self.lexicon.settings)
            or setting.secret
        )
        shown = phrase.say.fill(dict.fromkeys(filled, HIDDEN)) if secret else None
        outcome = self._exchange(said, phrase, shown)
        if outcome.how == "error":
            meaning = self.meaning(outcome.code) or "no meaning known"
            raise Refused(
                f"error {outcome.code}: {meaning}" if outcome.code else "the module said no",
                part=_part(outcome),
                where=self.session.link.name,
            )
        if not outcome.ok:
            raise self.fault(f"{what}: the module did not confirm the new value", outcome)
        for name in names:
            self._moved(self.lexicon.setting(name), values[name])

    def _group_fields(self, group: Group, values: Mapping[str, Value], others: Mapping[str, Value]) -> dict[str, Any]:
        members = {setting.name: setting for setting in self.lexicon.settings.values() if setting.group is group}
        if group.size:
            block = self._blocks.get(group.name)
            if block is None and group.read:
                self._read_group(group)
                block = self._blocks[group.name]
            places = {name: setting.place for name, setting in members.items() if setting.place}
            numbers = {name: int(members[name].kind.encode(value)) for name, value in values.items()}
            try:
                return {"block": put_bits(group, block or bytes(group.size), numbers, places)}
            except BlockFault as fault:
                raise ModuleFault(f"{group.name}: {fault}") from None
        assert group.write
        known = {**others, **values}
        missing = [name for name in group.write.say.names if name not in known]
        if missing:
            known.update(self.read_many(missing))
        return {name: members[name].kind.encode(known[name]) for name in group.write.say.names if name in known}

    def set(self, name: str, value: Any) -> None:
        """Checks any value, then writes it. Raises ValueFault before a byte is sent."""
        self.write({name: self.lexicon.setting(name).kind.check(value)})

    def _moved(self, setting: Setting, value: Value) -> None:
        if setting.moves_link == "at-once":
            self._retune(setting, value)
        elif setting.moves_link:
            self._moving.append((setting.moves_link, setting, value))

    def _retune(self, setting: Setting, value: Value) -> None:
        """Follows the link, or remembers it where command mode has a rate of its own."""
        self.data_link = retuned(self.data_link, setting.kind, value)
        if not self.lexicon.attention.tuning:
            self.session.tune(retuned(self.session.link.tuning, setting.kind, value))

    # -- actions ------------------------------------------------------------------------------------------------

    def do(self, name: str, values: Mapping[str, Any] | None = None) -> dict[str, Any]:
        """Has the module do something, checking each reply, and follows the link where that moves it. `values` may hold
        what the action needs. Gives what the action's dialogue kept."""
        actions = self.lexicon.actions
        if name not in actions:
            raise KeyError(f"the lexicon of {self.lexicon.about.family} has: {', '.join(actions) or 'no action'}")
        action = actions[name]
        if action.needs_attention:
            self._attend()
        needed = {need.name for need in action.program.needs()}
        given = {name: value for name, value in (values or {}).items() if name in needed}
        held = Holder(self.session, action.program, given, module=self, operator=self.operator).hold()
        self._spoke_at = self.session.clock.now()
        if action.ends_attention:
            self.attentive = False
        for when, setting, value in self._moving:
            if when == name or (when == "restart" and action.restarts):
                self._retune(setting, value)
        self._moving = [moving for moving in self._moving if moving[0] != name]
        return held.kept

    # -- failure ------------------------------------------------------------------------------------------------

    def meaning(self, code: str) -> str:
        """What an error number means, or nothing."""
        return self.lexicon.errors.get(code, "")

    def fault(self, what: str, outcome: Outcome) -> ModuleFault:
        """The fault of an exchange that did not end well."""
        hint = ""
        if outcome.how == "error":
            meaning = self.meaning(outcome.code)
            what += f": error {outcome.code}" + (f" ({meaning})" if meaning else "") if outcome.code else ": it said no"
        elif outcome.how == "silence":
            what += ": no answer" if not outcome.heard else ": no full answer"
        elif outcome.how == "closed":
            what += ": the answer lacks what was expected"
        elif outcome.how == "busy":
            what += ": it is busy, and stays so"
        joined = self.lexicon.attention.ends_on
        if joined and any(event.name == joined for event in self.session.conversation.events):
            hint = (
                "A peer has joined, and from then on the module passes everything through as data. Switch the peer off."
            )
        return ModuleFault(what, part=_part(outcome), where=self.session.link.name, hint=hint)


def _part(outcome: Outcome) -> Part:
    return Part(outcome.said, outcome.expected, outcome.heard, outcome.waited)
