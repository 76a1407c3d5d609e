"""Written conversations: what is said, what must be heard, what then."""

from wexicon.core.dialogue.program import Program
from wexicon.core.dialogue.reader import read_dialogue

__all__ = ["Program", "read_dialogue"]
