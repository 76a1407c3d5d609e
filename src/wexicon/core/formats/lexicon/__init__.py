"""Lexicons: how one family of modules speaks, what it can be told, and what it answers.

`tables` are the shapes of the file, `reading` checks one and makes a `model` of it.
"""

from wexicon.core.formats.lexicon.model import Action, Lexicon, Setting, SettingGroup
from wexicon.core.formats.lexicon.phrase import Phrase
from wexicon.core.formats.lexicon.reading import read_lexicon
from wexicon.core.formats.lexicon.tables import AttentionBy, AttentionTable, Moves, Start, TrafficTable

__all__ = [
    "Action",
    "AttentionBy",
    "AttentionTable",
    "Lexicon",
    "Moves",
    "Phrase",
    "Setting",
    "SettingGroup",
    "Start",
    "TrafficTable",
    "read_lexicon",
]
