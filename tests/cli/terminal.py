"""The built program on a terminal of its own, for the tests that type and look."""

from __future__ import annotations

import os
import pty
import re
import select
import signal
import struct
import sys
import termios
import time
from fcntl import ioctl

from tests.conftest import clean


class Terminal:
    """The built program on a terminal of its own; `seen` is all that it wrote there."""

    def __init__(self, *words: str, columns: int = 100, **variables: str) -> None:
        self.seen = b""
        self.pid, self.fd = pty.fork()
        self._before = self.pid and termios.tcgetattr(self.fd)
        self.restored = False
        if self.pid == 0:
            ioctl(0, termios.TIOCSWINSZ, struct.pack("HHHH", 40, columns, 0, 0))
            environment = {**clean({"TERM": "xterm", **variables}), "COLUMNS": str(columns)}
            os.execve(sys.executable, [sys.executable, "-m", "wexicon", *words], environment)

    def read(self, wanted: str = "", within: float = 60.0, times: int = 1) -> str:
        """Reads until something is seen so many times, or until the program ends."""
        until = time.monotonic() + within
        while time.monotonic() < until and (not wanted or self.text().count(wanted) < times):
            ready, _, _ = select.select([self.fd], [], [], 0.2)
            if not ready:
                continue
            try:
                data = os.read(self.fd, 65_536)
            except OSError:
                break
            if not data:
                break
            self.seen += data
        if wanted not in self.text():
            # It would keep the port from the tests after this one.
            os.kill(self.pid, signal.SIGKILL)
            raise AssertionError(self.text())
        return self.text()

    def text(self) -> str:
        return re.sub(r"\x1b\[[0-9;?]*[A-JL-Za-z]", "", self.seen.decode("utf-8", "replace"))

    def type(self, text: str) -> None:
        os.write(self.fd, text.encode())

    def hang_up(self) -> None:
        """The terminal goes away, as a window does that is closed."""
        os.close(self.fd)
        self.fd, self.restored = -1, True

    def end(self) -> int:
        """Waits for the end of the program; gives its exit status. `restored` tells whether the terminal is as it was."""
        if self.fd >= 0:
            self.read()
        until = time.monotonic() + 60
        while not (ended := os.waitpid(self.pid, os.WNOHANG))[0]:
            if time.monotonic() > until:
                # It would wait for ever, and hold its port.
                os.kill(self.pid, signal.SIGKILL)
                os.waitpid(self.pid, 0)
                raise AssertionError(f"it does not end: {self.text()}")
            time.sleep(0.01)
        status = ended[1]
        if self.fd >= 0:
            self.restored = termios.tcgetattr(self.fd) == self._before
            os.close(self.fd)
        return os.waitstatus_to_exitcode(status)
