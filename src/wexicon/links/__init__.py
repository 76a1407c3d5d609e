"""Ports that a session drives: serial devices and serial URLs, and an in-memory link under a virtual clock."""

from wexicon.faces import face

_NAMES = {
    "LINKS": "port",
    "RealClock": "clock",
    "VirtualClock": "virtual",
    "VirtualLink": "virtual",
    "open_port": "port",
}
__all__ = list(_NAMES)
__getattr__ = face(__name__, _NAMES)
