"""The command `wexicon`, also as `python -m wexicon`: what its first line does with signals.

The rule: nothing is imported before this that could be interrupted for long. Until the command takes signals itself there is
nothing to clean up: one that would end the program ends it at once, with the status of a stop and without a traceback.
"""

from __future__ import annotations

import os
import signal

STOPPED = 130
# A signal that was ignored when the program started stays ignored.
for _number in (getattr(signal, name, None) for name in ("SIGINT", "SIGTERM", "SIGHUP")):
    if _number is not None and signal.getsignal(_number) is not signal.SIG_IGN:
        signal.signal(_number, lambda number, frame: os._exit(STOPPED))


def main() -> None:
    """Runs the command and ends the program with its exit status."""
    from wexicon.cli.main import main as command

    command()


if __name__ == "__main__":
    main()
