"""Values that a dialogue needs, from the text in which they were given.

The rule: what does not fit its kind is refused before anything is said; a secret is never shown, not even a wrong one.
"""

from __future__ import annotations

import re
from decimal import Decimal, InvalidOperation
from typing import Any

from wexicon.core.dialogue.program import Needs
from wexicon.core.text import has_control

FORMS = {
    "text": (r"(?s).*", "text without control characters"),
    "word": (r"\S+", "one word"),
    "int": (r"[+-]?[0-9]{1,20}", "a whole number"),
    "decimal": (r"[+-]?[0-9]{1,20}(\.[0-9]{1,12})?", "a number such as 868.1"),
    "hex": (r"([0-9A-Fa-f]{2})+", "bytes in hexadecimal"),
    "digits": (r"[0-9]+", "digits"),
    "address": (r"[0-9A-Fa-f]{2}([:.,\-]?[0-9A-Fa-f]{2})+", "an address such as 02:A1:5C:00:13:F7"),
}


def given(need: Needs, text: str) -> Any:
    """The value; raises ValueError with what is allowed."""
    form, allowed = FORMS[need.kind]
    if not re.fullmatch(form, text) or has_control(text):
        shown = "the secret" if need.secret else repr(text)
        raise ValueError(f"{need.name}: {shown} is not right; allowed: {allowed}")
    if need.kind == "int":
        return int(text)
    if need.kind == "decimal":
        try:
            return Decimal(text)
        except InvalidOperation:
            raise ValueError(f"{need.name}: {text!r} is no number") from None
    return text
