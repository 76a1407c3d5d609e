"""Lexicons: how one family of modules speaks, what it can be told, and what it answers.

`tables` are the shapes of the file, `reading` checks one and makes a `model` of it.
"""

from wexicon.core.formats.lexicon.model import Action, Attention, Group, Lexicon, Phrase, Setting, Start
from wexicon.core.formats.lexicon.reading import read_lexicon
from wexicon.core.formats.lexicon.tables import AttentionBy, Moves, TrafficTable

__all__ = [
    "Action",
    "Attention",
    "AttentionBy",
    "Group",
    "Lexicon",
    "Moves",
    "Phrase",
    "Setting",
    "Start",
    "TrafficTable",
    "read_lexicon",
]
