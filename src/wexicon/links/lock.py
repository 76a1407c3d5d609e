"""One port, one user: opening a port takes its lock; a second program learns who holds it. Several modules behind one device
(`/dev/ttyUSB0#2` is the one with number 2) share it: in one program one of them is open at a time, the others wait.

The rule: a lock is the system's own on a file of the user's, so it dies with its process, however that ends. A device
that a program without our lock has open is taken too; where the system tells who that is, it is named. A pseudo-terminal's own
server does not count.
"""

from __future__ import annotations

import os
import re
import stat
import sys
import threading
import time
from collections.abc import Callable, Iterable, Iterator
from contextlib import suppress
from hashlib import sha256
from pathlib import Path
from typing import Any, Self

import msgspec

from wexicon.core.faults import LinkFault
from wexicon.core.protocol.link import Link
from wexicon.core.tuning import Tuning
from wexicon.files import private_folder, run_folder
from wexicon.system import device_of, is_locked, lock

_PROCESSES = Path("/proc")
_SERVERS_END = ("/dev/ptmx", "/dev/pts/ptmx")


class Holder(msgspec.Struct, frozen=True):
    """Who has a port: the process, and what it is called."""

    process: int
    what: str

    def __str__(self) -> str:
        return f"{self.what or 'a program'} (process {self.process})" if self.process else self.what


class PortLock:
    """The lock of one port, taken when made. Raises LinkFault that says who has the port."""

    def __init__(self, name: str) -> None:
        self._file: int | None = None
        path = _lock_file(name)
        try:
            private_folder(path.parent)
            file = os.open(path, os.O_RDWR | os.O_CREAT, 0o600)
        except OSError:
            # Nowhere to keep a lock: then the device's own must do.
            return
        try:
            lock(file)
        except OSError:
            os.close(file)
            raise in_use(name) from None
        stranger = _foreign_holder(name)
        if stranger:
            os.close(file)
            raise in_use(name, stranger)
        with suppress(OSError):  # on a full disk the lock still holds, without a name
            os.truncate(file, 0)
            os.write(file, msgspec.json.encode(Holder(os.getpid(), _own_name())))
        self._file = file

    def release(self) -> None:
        """Gives the port back."""
        if self._file is not None:
            os.close(self._file)
            self._file = None


class LifeLock:
    """A file that is locked for as long as this process lives, however it ends, and is gone when it ends well."""

    def __init__(self, path: Path) -> None:
        self.path = path
        private_folder(path.parent)
        self._file = os.open(path, os.O_RDWR | os.O_CREAT, 0o600)
        lock(self._file, wait=True)

    def release(self) -> None:
        """What it stood for has ended well."""
        with suppress(PermissionError):  # some systems remove no file that is open
            self.path.unlink(missing_ok=True)
        os.close(self._file)
        self.path.unlink(missing_ok=True)


def is_alive(path: Path) -> bool:
    """Whether the process of a LifeLock lives."""
    try:
        file = os.open(path, os.O_RDWR)
    except OSError:
        return path.exists()
    try:
        return is_locked(file)
    finally:
        os.close(file)


def holder_of(name: str) -> Holder | None:
    """Who has a port now; None if it is free or unknown."""
    with suppress(OSError):
        file = os.open(_lock_file(name), os.O_RDWR)
        try:
            if is_locked(file):
                with suppress(msgspec.DecodeError):
                    return msgspec.json.decode(os.read(file, 4096), type=Holder)
                return Holder(0, "another program")
        finally:
            os.close(file)
    return _foreign_holder(name)


def in_use(name: str, holder: Holder | None = None) -> LinkFault:
    """The fault of a port in use."""
    holder = holder or holder_of(name) or Holder(0, "another program")
    return LinkFault(f"the port is in use by {holder}", where=name, hint="Close what has it and try again.")


def _lock_file(name: str) -> Path:
    real = _same_for_all(name) if "://" in name else os.path.realpath(name)
    return run_folder() / "locks" / f"{sha256(real.encode('utf-8', 'surrogateescape')).hexdigest()[:32]}.lock"


def _same_for_all(url: str) -> str:
    """A URL in the one way in which its lock is named, however it was written."""
    import socket
    from urllib.parse import urlsplit

    parts = urlsplit(url)
    try:
        host, port = parts.hostname or "", parts.port
    except ValueError:
        return url
    if host in ("localhost", "::1"):
        host = "127.0.0.1"
    with suppress(OSError):
        # An address may be written short, or with its numbers in octal and hexadecimal.
        host = socket.inet_ntoa(socket.inet_aton(host))
    return f"{parts.scheme}://{host}:{port or ''}{parts.path.rstrip('/')}"


def _own_name() -> str:
    """Our own command, without what it was given: that may be private."""
    words = [Path(sys.argv[0]).name, *sys.argv[1:2]]
    return "wexicon " + words[1] if len(words) > 1 and words[1].isalpha() else "wexicon"


def _foreign_holder(name: str) -> Holder | None:
    """A process, not this one, that has a device open or its lock."""
    if "://" in name:
        return None
    with suppress(OSError):
        device = Path(name).stat()
        if stat.S_ISCHR(device.st_mode):
            return _OPEN.holder(os.path.realpath(name)) or _having_locked(device.st_ino, device.st_dev)
    return None


class _OpenDevices:
    """Which process has which device open. One look at all processes serves everyone that asks at the same time."""

    def __init__(self) -> None:
        self._found: dict[str, Holder] = {}
        self._began = float("-inf")
        self._lock = threading.Lock()
        # Devices that a look of a whole run has covered, each good for one answer.
        self._covered: set[str] = set()

    def look_at(self, devices: Iterable[str]) -> None:
        """Looks now; the next answer for each of these devices is from this look."""
        with self._lock:
            self._look()
            self._covered = set(devices)

    def holder(self, device: str) -> Holder | None:
        """Who has a device open, by a look that started after the question."""
        asked = time.monotonic()
        with self._lock:
            if device in self._covered:
                self._covered.discard(device)
            elif self._began < asked:
                self._look()
            return self._found.get(device)

    def _look(self) -> None:
        self._began, self._found = time.monotonic(), {}
        for one, holder in _having_open():
            self._found.setdefault(one, holder)


_OPEN = _OpenDevices()


def look_at_all(names: Iterable[str]) -> None:
    """Looks up the holders of all ports of a run at once, for when they are opened."""
    if _PROCESSES.is_dir():
        _OPEN.look_at(os.path.realpath(name) for name in names if "://" not in name)


def _having_open() -> Iterator[tuple[str, Holder]]:
    own = str(os.getpid())
    for process in os.listdir("/proc") if _PROCESSES.is_dir() else ():  # noqa: PTH208 - hundreds of them, each time
        if not process.isdigit() or process == own:
            continue
        with suppress(OSError):
            files = f"/proc/{process}/fd"
            open_ones = {number: _target(f"{files}/{number}") for number in os.listdir(files)}  # noqa: PTH208
            devices = {one for one in open_ones.values() if one.startswith("/dev/")}
            served = [number for number, one in open_ones.items() if one in _SERVERS_END]
            # A terminal multiplexer serves some terminals, and may have other devices open.
            devices -= {*_SERVERS_END, *_served(process, served, devices)}
            if devices:
                holder = Holder(int(process), _name_of(process))
                yield from ((one, holder) for one in devices)


def _served(process: str, numbers: Iterable[str], devices: Iterable[str]) -> Iterator[str]:
    """The pseudo-terminals whose server's end a process has open by these file numbers (`tty-index`, proc_pid_fdinfo(5)); all
    that it has open, where the system does not tell."""
    for number in numbers:
        lines = Path(f"/proc/{process}/fdinfo/{number}").read_text().splitlines()
        index = next((line.partition(":")[2].strip() for line in lines if line.startswith("tty-index:")), None)
        if index is None:
            yield from (one for one in devices if one.startswith("/dev/pts/"))
        else:
            yield f"/dev/pts/{index}"


def _having_locked(inode: int, device: int) -> Holder | None:
    """Who has locked a device, also where it is another user's process."""
    place = f"{device_of(device)}:{inode}"
    with suppress(OSError):
        for line in Path("/proc/locks").read_text().splitlines():
            words = line.split()
            if place in words and words[4] != str(os.getpid()):
                return Holder(int(words[4]), _name_of(words[4]))
    return None


def _target(path: str) -> str:
    try:
        return os.readlink(path)  # noqa: PTH115
    except OSError:
        return ""


def _name_of(process: str) -> str:
    with suppress(OSError):
        return Path(f"/proc/{process}/comm").read_text().strip()
    return ""


_NUMBERED = re.compile(r"(.+)#([0-9]{1,5})")
_guard = threading.Lock()
_devices: dict[str, threading.Lock] = {}


def split_station(name: str) -> tuple[str, int | None]:
    """The device in the name of a port, and the number of the module behind it, None if it has none."""
    found = _NUMBERED.fullmatch(name)
    return (found[1], int(found[2])) if found else (name, None)


def turn_at(device: str) -> threading.Lock:
    """What must be held while one of the modules behind this device is open."""
    with _guard:
        return _devices.setdefault(device, threading.Lock())


class Shared:
    """The link of a device as that of one module behind it: its own name, and its number in each tuning."""

    def __init__(self, link: Link, name: str, station: int, leave: Callable[[], None]) -> None:
        self._link, self.name, self._leave = link, name, leave
        self.tune(msgspec.structs.replace(link.tuning, station=station))
        self._open = True

    def __getattr__(self, name: str) -> Any:
        return getattr(self._link, name)

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *exc: object) -> None:
        self.close()

    def tune(self, tuning: Tuning) -> None:
        """Tunes the device. Raises CannotTune."""
        self._link.tune(tuning)
        self.tuning = tuning

    def close(self) -> None:
        """Closes the device; the next one has its turn."""
        self._link.close()
        if self._open:
            self._open = False
            self._leave()
