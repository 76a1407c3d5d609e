"""The states of registration with a cellular network, in words (3GPP TS 27.007, 10.1.22; 7.2 has the first six).

The rule: a number that the standard does not define stays a number.
"""

from __future__ import annotations

STATES = {
    0: "not registered, not searching",
    1: "registered, home network",
    2: "not registered, searching",
    3: "registration denied",
    4: "unknown, for example out of coverage",
    5: "registered, roaming",
    6: "registered for messages only, home network",
    7: "registered for messages only, roaming",
    8: "emergency calls only",
    9: "registered, home network, fallback not preferred",
    10: "registered, roaming, fallback not preferred",
}


def registration_state(state: object) -> str:
    """A state of +CREG, +CGREG or +CEREG in words."""
    return STATES.get(int(str(state)), f"state {state}")
