"""Lexicons: how one family of modules speaks, what it can be told, and what it answers.

`tables` are the shapes of the file, `reading` checks one and makes a `model` of it.
"""

from wexicon.core.formats.lexicon.model import Action, AttentionWays, Lexicon, Phrase, Setting, SettingGroup, Start
from wexicon.core.formats.lexicon.reading import read_lexicon
from wexicon.core.formats.lexicon.tables import AttentionBy, Moves, TrafficTable

__all__ = [
    "Action",
    "AttentionBy",
    "AttentionWays",
    "Lexicon",
    "Moves",
    "Phrase",
    "Setting",
    "SettingGroup",
    "Start",
    "TrafficTable",
    "read_lexicon",
]
