"""What a cellular module reports by numbers, in words: registration (3GPP TS 27.007, 10.1.22; 7.2 has the first six), access
technology, calls.

The rule: a number that the standard does not define stays a number. Numbers were written from memory, not checked against the
text of the standard.
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


# Access technologies, <AcT> of +COPS (3GPP TS 27.007, 7.3).
TECHNOLOGIES = {
    0: "GSM",
    1: "GSM compact",
    2: "UTRAN",
    3: "GSM with EGPRS",
    4: "UTRAN with HSDPA",
    5: "UTRAN with HSUPA",
    6: "UTRAN with HSPA",
    7: "LTE",
    8: "extended coverage GSM",
    9: "narrow-band",
}
# States of a call, <stat> of +CLCC (3GPP TS 27.007, 7.18).
CALL_STATES = {0: "active", 1: "held", 2: "dialling", 3: "alerting", 4: "incoming", 5: "waiting"}


def access_technology(number: object) -> str:
    """An access technology in words; nothing for none."""
    return TECHNOLOGIES.get(int(str(number)), f"technology {number}") if str(number) else ""


def call_state(number: object) -> str:
    """The state of a call in words."""
    return CALL_STATES.get(int(str(number)), f"state {number}")


def registration_state(state: object) -> str:
    """A state of +CREG, +CGREG or +CEREG in words."""
    return STATES.get(int(str(state)), f"state {state}")
