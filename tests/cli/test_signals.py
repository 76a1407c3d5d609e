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


@pytest.mark.parametrize("number", [signal.SIGINT, signal.SIGTERM, signal.SIGHUP])
@pytest.mark.parametrize(
    ("imported", "told"),
    [("click", ""), ("wexicon.core.faults", "stopped on request"), ("wexicon.cli.show", "stopped on request")],
)
def test_a_signal_while_modules_are_imported_ends_the_program_without_a_traceback(
    imported: str, told: str, number: int
) -> None:
    # A module that is imported on the way sends the signal, as if it came meanwhile; the last one when the program ends.
    program = (
        "import builtins, os, sys\n"
        "from wexicon.__main__ import main\n"
        "usual = builtins.__import__\n"
        "def load(name, *more):\n"
        f"    if name == '{imported}' and 'SENT' not in os.environ:\n"
        "        os.environ['SENT'] = '1'\n"
        f"        os.kill(os.getpid(), {number})\n"
        "    return usual(name, *more)\n"
        "builtins.__import__ = load\n"
        "sys.argv = ['wexicon', 'ports', '--nothing']\n"
        "main()\n"
    )
    done = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, timeout=60, check=False)
    assert done.returncode == 130 and done.stderr.strip() == told, done


def test_a_second_signal_on_the_way_out_ends_the_program_at_once() -> None:
    program = (
        "import os, signal\n"
        "import wexicon.cli.main as command\n"
        "def interrupted(*given): raise KeyboardInterrupt\n"
        "command.run = interrupted\n"
        "command._say = lambda text: os.kill(os.getpid(), signal.SIGINT)\n"
        "command.main()\n"
    )
    done = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, timeout=60, check=False)
    assert (done.returncode, done.stderr) == (130, ""), done
