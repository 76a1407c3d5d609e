"""Runs the commands of a fixture: a relay board's own program.

The rule: no shell sees them; what they print is reported only where they fail, and none may take long.
"""

from __future__ import annotations

from wexicon.core.faults import Fault
from wexicon.core.text import visible

LONGEST = 10.0


def run_command(command: str) -> None:
    """Runs a command and waits for its end. Raises Fault."""
    import shlex
    import subprocess

    try:
        words = shlex.split(command)
        done = subprocess.run(words, stdin=subprocess.DEVNULL, capture_output=True, timeout=LONGEST, check=False)
    except (OSError, ValueError) as fault:
        why = getattr(fault, "strerror", None) or fault
        raise Fault(f"the fixture's command “{visible(command)}” cannot be run: {why}") from None
    except subprocess.TimeoutExpired:
        raise Fault(f"the fixture's command “{visible(command)}” takes longer than {LONGEST:.0f} s") from None
    if done.returncode:
        told = visible((done.stderr or done.stdout).strip()[:300])
        raise Fault(f"the fixture's command “{visible(command)}” failed with status {done.returncode}: {told}")
