"""Removes secrets from a finished result.

The rule: a text that holds a secret is masked, a number that is one becomes null; the fields that hold only our own words,
names and paths are left as they are.
"""

from __future__ import annotations

from datetime import datetime
from enum import Enum

import msgspec

from wexicon.core.protocol.masking import Secrets
from wexicon.core.secret import HIDDEN, Secret
from wexicon.core.text import written

_NAMES = (
    "name",
    "step",
    "unit",
    "seat",
    "port",
    "link",
    "dialogue",
    "lexicon",
    "lexicon_digest",
    "lexicon_from",
    "wexicon",
    "sheet",
    "trace",
)
_COUNTS = ("status", "written", "said_by_dialogues", "exchanges", "seconds", "on_wire", "waiting", "pauses")
_OURS = frozenset((*_NAMES, *_COUNTS))


def masked(data: object, secrets: Secrets) -> object:
    """A result without secrets; its structs are changed in place."""
    if isinstance(data, Secret):
        return HIDDEN
    if isinstance(data, msgspec.Struct):
        if data.__struct_config__.frozen:
            return type(data)(**{name: masked(getattr(data, name), secrets) for name in data.__struct_fields__})
        for field in data.__struct_fields__:
            if field not in _OURS:
                setattr(data, field, masked(getattr(data, field), secrets))
        return data
    if isinstance(data, dict):
        return {name: masked(value, secrets) for name, value in data.items()}
    if isinstance(data, (list, tuple)):
        return [masked(value, secrets) for value in data]
    if isinstance(data, Enum | bool | datetime) or data is None or not secrets.any:
        return data
    if isinstance(data, str):
        return secrets.mask(data)
    return None if secrets.mask(written(data)) == HIDDEN else data
