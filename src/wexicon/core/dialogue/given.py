"""Values that a dialogue needs, from the text in which they were given.

The rule: what does not fit its kind is refused before anything is said; a secret is never shown, not even a wrong one.
"""

from __future__ import annotations

import re
from decimal import Decimal

from wexicon.core.text import has_control

FORMS = {
    "text": (r"(?s).*", "text without control characters"),
    "word": (r"\S+", "one word"),
    "int": (r"[+-]?[0-9]{1,20}", "a whole number"),
    "decimal": (r"[+-]?[0-9]{1,20}(\.[0-9]{1,12})?", "a number such as 868.1"),
    "hex": (r"([0-9A-Fa-f]{2})+", "bytes in hexadecimal"),
    "digits": (r"[0-9]+", "digits"),
    "file": (r".*\S.*", "the path of a file"),
    "address": (r"[0-9A-Fa-f]{2}([:.,\-]?[0-9A-Fa-f]{2})+", "an address such as 02:A1:5C:00:13:F7"),
}


def given(name: str, kind: str, text: str, *, secret: bool = False) -> object:
    """The value of a need; raises ValueError with what is allowed."""
    form, allowed = FORMS[kind]
    if not re.fullmatch(form, text) or has_control(text):
        shown = "the secret" if secret else repr(text)
        raise ValueError(f"{name}: {shown} is not allowed; allowed: {allowed}")
    if kind == "int":
        return int(text)
    return Decimal(text) if kind == "decimal" else text
