"""A module as its lexicon lets one see it: who it is, what it keeps, what it does, on one session.

The rule: every line goes through one exchange, and every reply is checked; a module is believed to be the same one only
after it said so; secrets are shown nowhere. What the words mean is the lexicon's, when they are said is the caller's.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence

import msgspec

from wexicon.core.dialogue.parties import Party
from wexicon.core.dialogue.runner import Runner
from wexicon.core.faults import Fault, ModuleFault, Part
from wexicon.core.formats.fixture import Fixture
from wexicon.core.formats.lexicon import Lexicon, Moves, Phrase
from wexicon.core.operator import Operator
from wexicon.core.protocol.dialect import Expectation, Reply, ReplyStatus
from wexicon.core.protocol.insertion import Filled
from wexicon.core.protocol.session import Session
from wexicon.core.text import Secret, plain, visible
from wexicon.core.tuning import Tuning
from wexicon.core.values import Value
from wexicon.work.contact.attention import PATIENCE, Attention
from wexicon.work.contact.catalog import TransferFiles
from wexicon.work.contact.ledger import Left, Ordered, Ready
from wexicon.work.contact.symptoms import Symptoms
from wexicon.work.module.following import LinkFollower
from wexicon.work.module.settings import Settings

# How often an action that makes settings persist is done again when something else was heard meanwhile.
MOST_TIMES = 3
CUT = "the answer stopped in the middle of a line"


class AnotherModule(ModuleFault):
    """Another module than before answers: its `identity`."""

    def __init__(self, what: str, *, where: str, hint: str, identity: dict[str, str]) -> None:
        super().__init__(what, where=where, hint=hint)
        self.identity = identity


class Module(LinkFollower):
    """`attention` is its attention, `settings` its settings, `identity` its identity; `given` what its actions may need,
    `likely` the links to try first; `trace` its trace file."""

    def __init__(
        self,
        session: Session,
        lexicon: Lexicon,
        operator: Operator,
        *,
        patience: float = PATIENCE,
        fixture: Fixture | None = None,
        given: Mapping[str, object] | None = None,
        likely: Sequence[Tuning] = (),
    ) -> None:
        super().__init__(
            session, lexicon, operator, Attention(session, lexicon, operator, patience=patience, fixture=fixture)
        )
        self.likely = likely
        self.trace = ""
        self.given = dict(given or {})
        # What earlier actions kept: a token, for those that follow.
        self.kept: dict[str, object] = {}
        # What the dialogues of its actions told.
        self.notes: list[str] = []
        if lexicon.attention.unlock:
            self.attention.unlock = lambda: self.do(lexicon.attention.unlock)
        self.settings = Settings(self)
        self.identity: dict[str, str] = {}
        for pattern, names in lexicon.secret_lines():
            session.secrets.add_pattern(pattern, names)

    # -- asking -------------------------------------------------------------------------------------------------

    def say(
        self, said: Filled, phrase: Phrase, *, tells: Collection[str] = (), expect: Expectation | None = None
    ) -> Reply:
        """One exchange, with its attention; `expect` replaces what answers the phrase. While an earlier answer may still
        come, what is asked first is something whose answer cannot be taken for it."""
        self.attention.keep()
        if self.session.outstanding and not _distinct(phrase):
            reads = (one.read for one in self.lexicon.settings.values() if one.read)
            asks = (*self.lexicon.identify, *reads, self.lexicon.attention.probe)
            known = next((ask for ask in asks if _distinct(ask)), None)
            if known is None or not self.session.exchange(known.say.fill({}), known.expect, known.within).ok:
                self.session.await_outstanding()
        outcome = self.session.exchange(said, expect or phrase.expect, phrase.within, tells=tells)
        self.attention.spoke()
        return outcome

    def ask(self, phrase: Phrase, values: Mapping[str, object] | None = None, *, tells: Collection[str] = ()) -> Reply:
        """Asks something harmless; what fails, or met with something unexpected, is asked again after a silence."""
        said = phrase.say.fill(values or {})
        anomalies = self.session.anomalies
        outcome = self._question(said, phrase, tells=tells)
        if outcome.ok and self.session.anomalies == anomalies and not outcome.strange:
            return outcome
        gap = self.session.dialect.gap
        self.session.wait_until_quiet(0.05 + gap, 0.5 + 4 * gap)
        return self._question(said, phrase, tells=tells)

    def _question(self, said: Filled, phrase: Phrase, *, tells: Collection[str] = ()) -> Reply:
        return self.attention.observer.observed(lambda: self.say(said, phrase, tells=tells))

    # -- who it is ------------------------------------------------------------------------------------------------

    def identify(self) -> dict[str, str]:
        """What the module says of itself; one that the lexicon is not for is refused."""
        identity: dict[str, str] = {}
        for phrase in self.lexicon.identify:
            outcome = self.ask(phrase)
            if not outcome.ok:
                raise self.fault("the module does not identify itself as this family does", outcome)
            identity.update({name: str(value) for name, value in outcome.captures.items()})
        for name, wanted in self.lexicon.must.items():
            found = identity.get(name, "")
            if found != wanted:
                raise ModuleFault(
                    f"this is another module: its {name} is {visible(found)}, the lexicon is for {wanted}",
                    where=self.session.link.name,
                    hint=f"{self.session.unchanged()}Put the right module on this port, or name its lexicon.",
                )
        for phrase in self.lexicon.also:
            outcome = self._question(phrase.say.fill({}), phrase)
            if outcome.ok:
                identity.update({name: str(value) for name, value in outcome.captures.items()})
        self._tell_exchanged(identity)
        self.identity = identity
        return identity

    def _tell_exchanged(self, identity: Mapping[str, str]) -> None:
        """What is in the module, such as its SIM, is another one than before in this session."""
        for name in exchangeable(self.lexicon):
            before, now = self.identity.get(name), identity.get(name)
            if before and now and before != now:
                self.attention.remark(f"the {name} was exchanged: {visible(before)} before, {visible(now)} now")

    def still_there(self) -> bool:
        """Asks for the identity again: false if the answer does not match this question, so that what was received
        before may have been the answer to something else. Raises ModuleFault where another module answers."""
        unit = self.lexicon.unit
        for phrase in self.lexicon.identify:
            names = [name for want in phrase.expect.wants for name in want.pattern.names]
            if unit and unit not in names:
                continue
            anomalies = self.session.anomalies
            outcome = self._question(phrase.say.fill({}), phrase)
            if not outcome.ok or self.session.anomalies != anomalies:
                return False
            heard = {name: str(value) for name, value in outcome.captures.items()}
            if any(self.identity.get(name) != value for name, value in heard.items()):
                self._same_after_all()
            return True
        return False

    def _same_after_all(self) -> None:
        """Another identity was heard: asked in silence again, and believed then."""
        self.session.wait_until_quiet(self.session.dialect.within, 2 * self.session.dialect.within)
        before = self.identity
        self.identify_again(before)

    def identify_again(self, before: dict[str, str]) -> None:
        """The module that answers must be the one that answered before."""
        unit = self.lexicon.unit
        after = self.identify()
        differs = [name for name in ([unit] if unit else before) if before.get(name) != after.get(name)]
        if before and differs:
            name = differs[0]
            self.identity = before
            self.state.another_module()
            raise AnotherModule(
                f"another module answers: its {name} is {visible(after.get(name, ''))}, "
                f"it was {visible(before.get(name, ''))}",
                where=self.session.link.name,
                hint="Put the first module back and run this again. Do not swap modules before Wexicon says that one is done.",
                identity=after,
            )

    def has(self, name: str) -> bool:
        """Whether this module's firmware has the setting."""
        setting = self.lexicon.setting(name)
        firmware = self.identity.get(self.lexicon.firmware, "")
        return not firmware or setting.there(firmware)

    # -- what it keeps: for dialogues -------------------------------------------------------------------------------

    def reveal(self, name: str) -> str:
        """The text of a setting in clear, also of a secret, for the terminal; the trace says that it was shown. Raises
        ModuleFault."""
        value = self.settings.read([name])[name].understood(name)
        self.session.log(f"{name} was shown on the terminal")
        return msgspec.structs.replace(self.lexicon.settings[name], secret=False).show(value)

    def read(self, name: str) -> Value | Secret:
        """The value of a setting, a Secret where it is one. Raises ModuleFault where it cannot be read or is not understood."""
        found = self.settings.read([name])
        if name not in found:
            raise ModuleFault(f"{name} cannot be read", where=self.session.link.name)
        value = found[name].understood(name)
        return Secret(value) if self.lexicon.setting(name).secret else value

    def set(self, name: str, value: object) -> None:
        """Checks any value, then writes it. Raises ValueFault before a byte is sent."""
        setting = self.lexicon.setting(name)
        if setting.secret:
            self.session.secrets.learn(value)
        self.settings.write({name: setting.check(plain(value))}, {})

    def pin(self, name: object) -> bool:
        """Whether a pin of the module is on, as the fixture reads it, or one of the lines cts, dsr, dcd, ri. Raises Fault."""
        try:
            return self.attention.fixture.reads(self.session, str(name))
        except KeyError as fault:
            hint = f"{fault.args[0]} Describe it in the fixture: [input.{name}]"
            raise ModuleFault(f"the fixture has no input {name}", where=self.session.link.name, hint=hint) from None

    def decoded(self, name: str, text: str) -> Value:
        """The value that is in the module's words. Raises ValueFault."""
        return self.lexicon.setting(name).kind.decode(text)

    def encoded(self, name: str, value: object) -> str:
        """A value in the module's words. Raises ValueFault."""
        kind = self.lexicon.setting(name).kind
        return kind.encode(kind.check(value))

    # -- actions ------------------------------------------------------------------------------------------------

    def do(self, name: str, values: Mapping[str, object] | None = None) -> dict[str, object]:
        """Has the module do something, checking each reply, and follows the link where that moves it. `values` may hold
        what the action needs. Gives what the action's dialogue kept."""
        actions = self.lexicon.actions
        if name not in actions:
            raise KeyError(f"the lexicon of {self.lexicon.about.family} has: {', '.join(actions) or 'no action'}")
        action = actions[name]
        if action.needs_attention:
            self.attention.keep()
        needed = {need.name for need in action.program.needs()}
        have = {**self.given, **self.kept, **(values or {})}
        given = {name: value for name, value in have.items() if name in needed}
        files = TransferFiles(action.program, given)
        began, pending = self.session.clock.now(), tuple(self.state.pending)
        made = Runner(Party("", self.session, self, self.operator), action.program, given, files=files).run()
        self.attention.spoke()
        if action.restarts:
            self.attention.ledger.note(Ordered(began))
        if action.settles:
            self.session.quiet(action.settles)
        if action.ends_attention or action.restarts:
            self.attention.lose()
            if not action.restarts:
                self.attention.ledger.note(Left(self.session.clock.now()))
        if self.state.done_at.get(name, -1.0) < began:
            # Its lines are not those by which the reader knows it.
            self.state.done(action, self.session.clock.now())
        self._follow(pending)
        self.kept.update(made.kept)
        self.notes += made.notes
        return made.kept

    def leave(self) -> None:
        """Ends command mode as the lexicon says: by its action `leave`, and by the pins of data mode, which an operator sets if
        no fixture does. What counts from then on is followed."""
        pins = self.lexicon.attention.data_pins
        if "leave" in self.lexicon.actions and self.attention.held:
            self.do("leave")
        if not pins:
            return
        if self.attention.fixture.has(pins):
            self.attention.fixture.drive(self.session, pins)
        else:
            wanted = ", ".join(f"{name} {'on' if on else 'off'}" for name, on in pins.items())
            self.operator.ask("release", f"Back to data mode: {wanted}.")
        self.attention.lose()
        pending = tuple(self.state.pending)
        self.state.move_due({Moves.LEAVE}, self.session.clock.now(), "it left command mode")
        self._follow(pending)

    def persist(self, name: str) -> None:
        """Does an action that makes settings persist, surely. Raises ModuleFault."""
        action = self.lexicon.actions[name]
        self.surely(name, lambda: self.do(name), plainly=action.restarts or action.ends_attention)

    def surely(self, what: str, act: Callable[[], object], *, plainly: bool = False) -> None:
        """Does something that is only acknowledged, between two questions whose answers cannot be taken for its own; if
        anything else was heard meanwhile, or the module started, again. `plainly` does it without the questions. Raises
        ModuleFault if it is never sure."""
        plainly = plainly or not self.lexicon.identify
        for _ in range(MOST_TIMES):
            if not plainly and not self.still_there():
                self.session.wait_until_quiet(self.session.dialect.within, 2 * self.session.dialect.within)
            calm = self.doubts()
            act()
            if plainly or (self.doubts() == calm and self.still_there()):
                return
            self.session.log(f"unexpected data around {what}; repeating")
            self.session.wait_until_quiet(self.session.dialect.within, 2 * self.session.dialect.within)
        raise ModuleFault(
            f"{what}: its answer cannot be told from other lines on this link",
            where=self.session.link.name,
            hint="Noise, or another sender. Assume nothing was saved.",
        )

    def doubts(self) -> tuple[int, int]:
        """How much has come so far that makes acknowledgements doubtful: unexpected or missing answers, and ready texts of a
        module that started."""
        return self.session.anomalies, sum(isinstance(entry, Ready) for entry in self.attention.ledger.entries)

    # -- failure ------------------------------------------------------------------------------------------------

    def meaning(self, code: str) -> str:
        """What an error number means, or nothing."""
        return self.lexicon.errors.get(code, "")

    def fault(self, what: str, outcome: Reply) -> ModuleFault:
        """The fault of an exchange that did not end well."""
        cause = Symptoms(self.session, self.lexicon).cause()
        reason = {
            ReplyStatus.ERROR: self.error(outcome.code),
            ReplyStatus.SILENCE: CUT if outcome.cut else "no full answer" if outcome.heard else "no answer",
            ReplyStatus.CLOSED: "the answer lacks what was expected",
            ReplyStatus.BUSY: "still busy",
        }.get(outcome.status, "")
        hint = cause.sentence if cause and cause.kind not in ("silence", "half", "errors") else self._half(outcome)
        hint = hint or (cause.sentence if cause and outcome.status is ReplyStatus.SILENCE and not outcome.heard else "")
        return ModuleFault(what, part=Part.of(outcome), where=self.session.link.name, hint=hint, reason=reason)

    def _half(self, outcome: Reply) -> str:
        """What to do where the module answers some commands only: its key was let go meanwhile."""
        attention = self.lexicon.attention
        if attention.whole is None or outcome.status not in (ReplyStatus.SILENCE, ReplyStatus.ERROR):
            return ""
        try:
            heard = [
                self.session.exchange(one.say.fill({}), one.expect, one.within).ok
                for one in (attention.probe, attention.whole)
            ]
        except Fault:
            return ""
        return (
            f"The key was released: some commands are answered and others not. {attention.operator}"
            if heard == [True, False]
            else ""
        )

    def error(self, code: str) -> str:
        """An error in words."""
        if not code:
            return "it returned an error"
        return f"error {visible(code)} ({self.meaning(code) or 'no meaning known'})"


def exchangeable(lexicon: Lexicon) -> list[str]:
    """What identifies things in a module that can be exchanged: the captures of its further questions, without addresses, which
    a network gives anew."""
    names = [name for phrase in lexicon.also for want in phrase.expect.wants for name in want.pattern.names]
    return [name for name in names if name != "address"]


def _distinct(phrase: Phrase) -> bool:
    """Whether the answer names what it answers."""
    return bool(phrase.expect.wants and phrase.expect.wants[0].pattern.start)
