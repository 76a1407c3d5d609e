"""What is done with modules: getting attention, identifying, reading, writing, proving, running dialogues."""

from wexicon.faces import face

_NAMES = {
    "Choice": "rehearsing",
    "DialogueResult": "results",
    "Evidence": "results",
    "FileStore": "unfinished",
    "Module": "module",
    "Order": "provisioning",
    "Outcome": "results",
    "Prove": "results",
    "UnitResult": "results",
    "Verdict": "results",
    "VirtualBench": "bench",
    "find_dialogue": "dialogues",
    "find_lexicon": "finding",
    "find_sheet": "finding",
    "provision": "provisioning",
    "read_out": "provisioning",
    "rehearse_dialogue": "rehearsing",
    "rehearse_seat": "rehearsing",
    "run_dialogue": "dialogues",
    "secrets_for": "secrets",
    "session_on": "opening",
    "verify": "provisioning",
}
__all__ = list(_NAMES)
__getattr__ = face(__name__, _NAMES)
