"""The folders of Wexicon: the user's choices, their lexicons, traces and records, running rigs, and the shipped files.

The rule: WEXICON_CONFIG, WEXICON_LEXICONS, WEXICON_STATE and WEXICON_RUN each replace one; otherwise they are where the
system keeps such files (on Linux by the XDG Base Directory Specification 0.8).
"""

from __future__ import annotations

import os
import sys
from pathlib import Path

_PACKAGE = Path(__file__).parent


def config_folder() -> Path:
    """The user's own choices."""
    return _folder("WEXICON_CONFIG", "XDG_CONFIG_HOME", ".config", "user_config_path")


def user_folder() -> Path:
    """The user's own lexicons."""
    own = os.environ.get("WEXICON_LEXICONS")
    return Path(own) if own else config_folder() / "lexicons"


def state_folder() -> Path:
    """Traces, the register, and what is unfinished."""
    return _folder("WEXICON_STATE", "XDG_STATE_HOME", ".local/state", "user_state_path")


def run_folder() -> Path:
    """The cards of running rigs, and the locks of ports."""
    own = os.environ.get("WEXICON_RUN")
    if own:
        return Path(own)
    return _folder("", "XDG_STATE_HOME", ".local/state", "user_state_path") / "rigs"


def shipped_folder() -> Path:
    """The lexicons that come with Wexicon."""
    return _PACKAGE / "lexicons"


def _folder(own: str, variable: str, usual: str, ask: str) -> Path:
    """A folder by our own variable, or the system's way; on Linux that takes no library, which would take time to import."""
    if own and os.environ.get(own):
        return Path(os.environ[own])
    if sys.platform == "linux":
        base = os.environ.get(variable, "")
        # The specification: a path that is not absolute is ignored.
        return (Path(base) if os.path.isabs(base) else Path.home() / usual) / "wexicon"  # noqa: PTH117 - no import
    import platformdirs

    found: Path = getattr(platformdirs, ask)("wexicon")
    return found
