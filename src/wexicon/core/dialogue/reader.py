"""Reads a dialogue: one statement a line.

The rule: every fault is found before anything is said, and each is told with its line and column.
"""

from __future__ import annotations

from wexicon.core.dialogue.program import Program, Say
from wexicon.core.exchange import Expectation, Want
from wexicon.core.faults import Complaint, FileFault
from wexicon.core.insertion import Template
from wexicon.core.patterns import Pattern, PatternFault


def read_dialogue(text: str, path: str) -> Program:
    """The program that `text` stands for. Raises FileFault with every complaint."""
    complaints: list[Complaint] = []
    statements: list[Say] = []
    template: Template | None = None
    wants: list[Want] = []
    begun = 0

    def close() -> None:
        if template is not None:
            statements.append(Say(begun, template, Expectation(tuple(wants))))
        wants.clear()

    for number, line in enumerate(text.splitlines(), 1):
        stripped = line.strip()
        if not stripped or stripped.startswith("#"):
            continue
        body = stripped[2:]
        try:
            if stripped.startswith("> "):
                close()
                template, begun = Template(body), number
            elif stripped.startswith("< ") and template is not None:
                wants.append(Want(Pattern(body)))
            else:
                complaints.append(Complaint("no such statement", "", number, 1, line, "a line begins with > or <"))
        except PatternFault as fault:
            complaints.append(Complaint(fault.what, "", number, fault.column + 2, line, fault.hint))
    close()
    if complaints:
        raise FileFault(path, complaints)
    return Program(tuple(statements), tuple(name for say in statements for name in say.template.names))
