"""Runs the commands of a fixture: a relay board's own program.

The rule: no shell sees them, and none of our environment's secrets reaches them; what they print is reported only where they
fail, and none may take long.
"""

from __future__ import annotations

import os

from wexicon.core.faults import Fault
from wexicon.core.text import to_text, visible

LONGEST = 10.0
# The environment variables that such a command gets: none that may hold a secret.
_PASSED = ("PATH", "HOME", "USER", "LANG", "LC_ALL", "TMPDIR", "SYSTEMROOT")


def run_command(command: str) -> str:
    """Runs a command and waits for its end; what it printed. Raises Fault."""
    import shlex
    import subprocess

    try:
        words = shlex.split(command)
        own = {name: os.environ[name] for name in _PASSED if name in os.environ}
        done = subprocess.run(
            words, stdin=subprocess.DEVNULL, capture_output=True, timeout=LONGEST, check=False, env=own
        )
    except (OSError, ValueError) as fault:
        why = getattr(fault, "strerror", None) or fault
        raise Fault(f"the fixture's command “{visible(command)}” cannot be run: {why}") from None
    except subprocess.TimeoutExpired:
        raise Fault(f"the fixture's command “{visible(command)}” takes longer than {LONGEST:.0f} s") from None
    if done.returncode:
        told = visible((done.stderr or done.stdout).strip()[:300])
        raise Fault(f"the fixture's command “{visible(command)}” failed with status {done.returncode}: {told}")
    return to_text(done.stdout)
