"""In which order settings are written, and what would be said to a module, line by line, before any of it is said.

The rule: what others need comes first, what moves the link comes last. A planned line is made by the code that says it;
secrets are shown as being there. What gains the module's attention, or asks again what was not understood, is not listed: it
changes nothing.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from wexicon.core.dialogue.blocks import Say
from wexicon.core.formats.lexicon import Lexicon
from wexicon.core.protocol.insertion import InsertionFault, Template
from wexicon.core.results.result import Evidence
from wexicon.core.results.unit import PlannedLine
from wexicon.core.text import HIDDEN, Secret
from wexicon.core.values import Value
from wexicon.work.module.module import Module
from wexicon.work.module.starts import POWER_CYCLE
from wexicon.work.provisioning.facts import SettingFacts


def ordered(lexicon: Lexicon, names: Iterable[str]) -> list[str]:
    """The names in the order of writing."""
    wanted = set(names)
    ranked = [name for name in lexicon.settings if name in wanted]
    made: list[str] = []

    def put(name: str, above: tuple[str, ...] = ()) -> None:
        for need in lexicon.settings[name].needs:
            if need in wanted and need not in above:
                put(need, (*above, name))
        if name not in made:
            made.append(name)

    for moves in (False, True):
        for name in ranked:
            if bool(lexicon.settings[name].moves_link) == moves:
                put(name)
    return made


def together(lexicon: Lexicon, names: Iterable[str]) -> list[list[str]]:
    """Settings of one group that is written as a whole stand together, in the place of the last of them."""
    made: dict[str, list[str]] = {}
    for name in names:
        setting = lexicon.settings[name]
        key = f"group {setting.in_group.name}" if setting.in_group and not setting.write else name
        made[key] = [*made.pop(key, []), name]
    return list(made.values())


class Plan:
    """The lines of a plan, gathered in the order in which they would be said; `known` are the values that were read."""

    def __init__(self, module: Module, known: Mapping[str, Value]) -> None:
        self.module = module
        self.lexicon = module.lexicon
        self.known = known
        self.lines: list[PlannedLine] = []

    def writes(self, todo: Sequence[SettingFacts]) -> None:
        """What writes these settings."""
        by_name = {line.setting.name: line for line in todo}
        for names in together(self.lexicon, ordered(self.lexicon, by_name)):
            values = {name: line.wanted for name in names if (line := by_name[name]).wanted is not None}
            moving = [name for name in values if self.lexicon.settings[name].moves_link and self.module.session.fixed]
            for name in moving:
                told = self.module.board_told(self.lexicon.settings[name], values[name])
                self.lines.append(PlannedLine("operator", f"({told} Enter is asked for before and after.)"))
            setting = self.lexicon.settings[names[0]]
            lines = (
                self.module.settings.lines_for_list(setting, values[names[0]])
                if setting.add
                else [self.module.settings.line_for(values, self.known)]
            )
            for said, _, _ in lines:
                self._add(f"write {', '.join(names)}", said.text if said.shown is None else said.shown)

    def actions(self, names: Iterable[str]) -> None:
        """What these actions say. A line that depends on an answer stands as the lexicon has it."""
        for name in names:
            action = self.lexicon.actions[name]
            for statement in action.program.walk():
                if isinstance(statement, Say):
                    self._add(name, self._filled(statement.template))

    def witness(self, name: str, value: Value, other: Value) -> None:
        """What changes the witness, so that a restart can be told from none."""
        said, _, _ = self.module.settings.line_for({name: other}, {**self.known, name: value})
        self._add(f"change {name} unsaved", said.text if said.shown is None else said.shown)

    def start(self, how: Evidence) -> None:
        """What has the module start."""
        restart = self.lexicon.restart()
        sent_away = (
            how is Evidence.POWER and self.lexicon.attention.power_up and not self.module.attention.power.there()
        )
        if how is Evidence.RESTART or (sent_away and restart and self.module.attention.needs_operator()):
            self.actions([restart])
        if how is Evidence.READING:
            return
        if how is Evidence.POWER:
            by_hand = self.lexicon.attention.operator if self.lexicon.attention.power_up else POWER_CYCLE
            self.lines.append(PlannedLine("power cycle", f"({by_hand})"))
        elif how is Evidence.RESTART and self.module.attention.needs_operator():
            self.lines.append(PlannedLine("come back", f"({self.lexicon.attention.operator})"))
        for phrase in (*self.lexicon.identify, *self.lexicon.also):
            self._add("identify", phrase.say.plain)

    def reads(self, names: Iterable[str]) -> None:
        """What reads these settings back."""
        asked: set[str] = set()
        # What the module shows in part is read behind the others.
        for name in sorted(names, key=lambda name: bool(self.lexicon.settings[name].shows)):
            setting = self.lexicon.settings[name]
            group = setting.in_group if setting.in_group and setting.in_group.tells(name) else None
            phrase_ = setting.read or (group.read if group else None)
            if phrase_ and phrase_.say.plain not in asked:
                asked.add(phrase_.say.plain)
                self._add("read back", phrase_.say.plain)

    def _filled(self, template: Template) -> str:
        given = {name: HIDDEN if isinstance(value, Secret) else value for name, value in self.module.given.items()}
        try:
            return template.fill(given).text
        except InsertionFault:
            return template.plain

    def _add(self, step: str, says: str) -> None:
        self.lines.append(PlannedLine(step, says))
