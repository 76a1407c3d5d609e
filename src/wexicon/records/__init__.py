"""What is kept: the trace of a session, the register of units, and what is drawn from them."""

from wexicon.faces import face

_NAMES = {
    "Record": "trace",
    "TraceWriter": "trace",
    "What": "trace",
    "read_trace": "trace",
    "recorded": "trace",
}
__all__ = list(_NAMES)
__getattr__ = face(__name__, _NAMES)
