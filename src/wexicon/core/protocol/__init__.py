"""The protocol engine: bytes and time come in, observations go out. It owns no port, no clock and no thread."""

from wexicon.faces import face

_NAMES = {
    "Clock": "link",
    "Dialect": "dialect",
    "Engine": "engine",
    "Exchange": "exchange",
    "Expectation": "exchange",
    "Framer": "framing",
    "Link": "link",
    "Listener": "observations",
    "Listeners": "observations",
    "Pattern": "patterns",
    "PatternFault": "patterns",
    "Reply": "exchange",
    "Session": "session",
    "Speech": "speech",
    "Template": "insertion",
    "Want": "exchange",
}
__all__ = list(_NAMES)
__getattr__ = face(__name__, _NAMES)
