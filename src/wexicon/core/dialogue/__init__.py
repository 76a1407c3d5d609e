"""Dialogues: scripts of commands, expected answers and decisions.

`reader` makes a `Program` of a text and finds its faults, `runner` runs it on a session, `draft` writes one from a trace.
"""

from wexicon.core.dialogue.program import Program
from wexicon.core.dialogue.reader import read_dialogue

__all__ = ["Program", "read_dialogue"]
