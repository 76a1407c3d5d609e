"""Runs the commands of a fixture: a relay board's own program, or one that takes the result of each unit.

The rule: no shell sees them, and none of our environment's secrets reaches them; what they print is reported only where they
fail, and none may take long.
"""

from __future__ import annotations

import os

from wexicon.core.faults import Fault
from wexicon.core.text import to_text, visible

LONGEST, LONGEST_AFTER = 10.0, 60.0
# The environment variables that such a command gets: none that may hold a secret.
_PASSED = ("PATH", "HOME", "USER", "LANG", "LC_ALL", "TMPDIR", "SYSTEMROOT")


def run_command(command: str, given: bytes = b"", longest: float = LONGEST) -> str:
    """Runs a command with `given` on its standard input, and waits for its end, at most `longest` seconds; what it printed.
    Raises Fault."""
    import shlex
    import subprocess

    try:
        words = shlex.split(command)
        own = {name: os.environ[name] for name in _PASSED if name in os.environ}
        done = subprocess.run(words, input=given, capture_output=True, timeout=longest, check=False, env=own)
    except (OSError, ValueError) as fault:
        why = getattr(fault, "strerror", None) or fault
        raise Fault(f"the fixture's command “{visible(command)}” cannot be run: {why}") from None
    except subprocess.TimeoutExpired:
        raise Fault(f"the fixture's command “{visible(command)}” takes longer than {longest:.0f} s") from None
    if done.returncode:
        told = visible((done.stderr or done.stdout).strip()[:300])
        raise Fault(f"the fixture's command “{visible(command)}” failed with status {done.returncode}: {told}")
    return to_text(done.stdout)
