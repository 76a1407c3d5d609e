"""A signal ends a prompt, also one that comes in the moment before the prompt waits."""

from __future__ import annotations

import os
import select
import signal
import subprocess
import sys
import time

import pytest

from wexicon.cli.signals import at_once


@pytest.mark.parametrize("number", [signal.SIGTERM, signal.SIGHUP])
def test_a_signal_that_python_has_not_taken_is_sent_again(number: int) -> None:
    """It is caught by Python's handler in C alone, as right before a read that then blocks."""
    ours, theirs = os.pipe()
    usual, count = signal.getsignal(number), 0
    with pytest.raises(KeyboardInterrupt), at_once():
        inner = signal.getsignal(number)

        def first_is_lost(*given: object) -> None:
            nonlocal count
            count += 1
            if count > 1:
                inner(*given)  # type: ignore[operator]

        signal.signal(number, first_is_lost)
        os.kill(os.getpid(), number)
        select.select([ours], [], [], 60)
    assert count == 2
    signal.signal(number, usual)
    os.close(ours), os.close(theirs)


def test_a_signal_that_was_taken_is_not_sent_again() -> None:
    usual, taken = signal.getsignal(signal.SIGTERM), 0
    with pytest.raises(KeyboardInterrupt), at_once():
        try:
            os.kill(os.getpid(), signal.SIGTERM)
            time.sleep(60)
        except KeyboardInterrupt:
            taken += 1
            time.sleep(0.5)  # a way out that takes long, as that of a terminal on a busy machine
            raise
    assert taken == 1
    signal.signal(signal.SIGTERM, usual)


def test_a_signal_while_the_first_modules_are_imported_ends_the_program_as_any_other() -> None:
    # The module that `run` imports first sends the signal, as if it came meanwhile.
    program = (
        "import builtins, os, signal, sys\n"
        "import wexicon.cli.main as command\n"
        "usual = builtins.__import__\n"
        "def load(name, *more):\n"
        "    if name == 'wexicon.core.faults' and not os.environ.pop('SENT', ''):\n"
        "        os.kill(os.getpid(), signal.SIGTERM)\n"
        "    return usual(name, *more)\n"
        "sys.modules.pop('wexicon.core.faults', None)\n"
        "builtins.__import__ = load\n"
        "command.main(['ports'])\n"
    )
    done = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, timeout=60, check=False)
    assert done.returncode == 130 and done.stderr == "stopped on request\n", done
