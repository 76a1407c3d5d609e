"""What the trials of a lexicon on a module share: steps, an end in any case, and a result in which nothing is secret.

The rule: whatever ends a trial, its result says at which step.
"""

from __future__ import annotations

from typing import Generic, TypeVar

from wexicon.work.module.module import Module
from wexicon.work.provisioning.unfinished import Store
from wexicon.work.results.masking import masked
from wexicon.work.results.start_trial import StartTrial
from wexicon.work.results.write_trial import WriteTrial

Made = TypeVar("Made", bound=StartTrial | WriteTrial)


class ModuleTrial(Generic[Made]):
    """One trial; what is changed for it is written down in `store`."""

    def __init__(self, module: Module, store: Store, result: Made) -> None:
        self.module, self.store = module, store
        self.result: Made = result
        self.lexicon, self.session = module.lexicon, module.session
        self.step = ""

    def run(self) -> Made:
        """The whole trial; faults end in the result."""
        result, began = self.result, self.session.clock.now()
        try:
            self.walk()
            self.judge()
        except (Exception, KeyboardInterrupt) as fault:
            result.ended_by(fault, self.step, self.session)
        result.remarks += self.module.attention.remarks
        result.timed(self.session, began)
        masked(result, self.session.secrets)
        return result

    def walk(self) -> None:
        """What is done, step by step."""
        raise NotImplementedError

    def judge(self) -> None:
        """The verdict, once all of it is done."""
        raise NotImplementedError

    def enter(self, step: str, *, searching: bool = False) -> None:
        """The next step begins; `searching` if answers at several rates are tried in it."""
        self.step = step
        self.session.begin_step(step, searching=searching)
