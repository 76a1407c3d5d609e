"""The ports of this machine: what the system and running rigs say of each, who uses it, how it can be named, and at which link
a module last answered there.

The rule: a port is known by what stays with it (USB serial number and interface, a rig's unit), not by its path. What is
stored of a port is only tried first, never believed.
"""

from __future__ import annotations

import os
from collections.abc import Iterable
from contextlib import suppress
from fnmatch import fnmatch
from hashlib import sha256
from pathlib import Path
from typing import TYPE_CHECKING, Any

import msgspec

from wexicon.core.faults import CallFault
from wexicon.core.formats.toml import Source
from wexicon.core.results.listed import PortInfo
from wexicon.core.text import meant
from wexicon.core.tuning import Tuning
from wexicon.files import config_folder, read_file, read_record, shipped_folder, state_folder, user_folder, write_whole
from wexicon.links.lock import holder_of, split_station
from wexicon.settings_file import lexicon_folders, named_ports

if TYPE_CHECKING:
    from wexicon.core.formats.lexicon import Lexicon

BY_ID = Path("/dev/serial/by-id")
_NAME_FILE = "ports.toml"
_NAMES_HEAD = "# Names of ports, as `wexicon ports --name NAME=PORT` keeps them.\nformat = 1\n\n[port]\n"


def found_ports() -> list[PortInfo]:
    """Every port there is now: the machine's, then those of running rigs."""
    from wexicon.rigs.control import cards

    names = port_names()
    found = [*_machine_ports()]
    for card in cards():
        for unit, port in card.ports.items():
            key = f"rig {card.name}/{unit}"
            found.append(PortInfo(port, f"stand-in {card.standins[unit]}", f"rig {card.name}", unit=unit, key=key))
    return [_with_people(one, names) for one in found]


def _with_people(one: PortInfo, names: dict[str, str]) -> PortInfo:
    own = (one.key, one.port, one.stable, one.serial, one.unit)
    name = next((name for name, target in names.items() if target and target in own), "")
    holder = holder_of(one.port)
    return msgspec.structs.replace(one, name=name, used_by=str(holder) if holder else "")


def _machine_ports() -> list[PortInfo]:
    stable = {os.path.realpath(path): str(path) for path in BY_ID.glob("*")} if BY_ID.is_dir() else {}
    return [_told(one, stable.get(os.path.realpath(one.device), "")) for one in sorted(_comports())]


def _comports() -> list[Any]:
    from serial.tools.list_ports import comports

    return list(comports())


def _told(port: Any, stable: str) -> PortInfo:
    """What the system tells of a port."""
    usb = f"{port.vid:04x}:{port.pid:04x}" if port.vid is not None else ""
    what = port.product or (port.description if port.description != "n/a" else "") or ""
    # An adapter with several ports has one serial number: the interface tells one from the other.
    interface = (port.location or "").partition(":")[2]
    key = f"usb {usb} {port.serial_number} {interface}".rstrip() if port.serial_number else port.device
    return PortInfo(port.device, what, port.manufacturer or "", port.serial_number or "", usb, stable, key=key)


# -- naming one -----------------------------------------------------------------------------------------------------


def port_named(text: str) -> str:
    """The path or URL of a port that a person names: by a path, a URL, a name that it was given, its USB serial number, or
    the unit of a running rig; each with the number of a module behind it, as in `quay#2`. Raises CallFault with what was
    probably meant."""
    from wexicon.links.port import VIRTUAL

    device, station = split_station(text)
    if device in VIRTUAL:
        return VIRTUAL[device] + text[len(device) :]
    if station is not None and not os.path.lexists(text):
        return f"{port_named(device)}#{station}"
    if "://" in text or os.path.lexists(text) or text.upper().startswith("COM") or text.startswith("/"):
        return text
    target = port_names().get(text, text)
    if target != text and ("://" in target or os.path.lexists(target)):
        return target
    ports = found_ports()
    found = [one.port for one in ports if target in (one.key, one.serial, one.unit, one.stable, one.port)]
    if len(found) > 1:
        hint = f"Name one by its path: {', '.join(found)}"
        raise CallFault(f"{text} stands for {len(found)} ports", hint=hint)
    if not found:
        known = [word for one in ports for word in (one.name, one.serial, one.unit) if word]
        if target != text:
            what = f"the port called {text} ({target}) is not there"
            raise CallFault(what, hint="Is the cable in? `wexicon ports` lists what there is.")
        hint = meant(text, [*known, *port_names()]) or "`wexicon ports` lists what there is."
        raise CallFault(f"there is no port {text}", hint=hint)
    return found[0]


def places_of(texts: Iterable[str]) -> list[PortAssignment]:
    """The ports that a call names, each once: `PORT`, `SEAT=PORT`, or a pattern for several. Raises CallFault."""
    found: list[PortAssignment] = []
    for text in texts:
        seat, equals, port = text.partition("=") if "://" not in text.partition("=")[0] else ("", "", text)
        seat, port = (seat, port) if equals else ("", text)
        if any(char in port for char in "*?[") and "://" not in port:
            named = [one.port for one in found_ports() if any(fnmatch(word, port) for word in _words(one))]
            if not named:
                raise CallFault(f"no port is like {port}", hint="`wexicon ports` lists what there is.")
            found += [PortAssignment(one, seat) for one in named]
        else:
            found.append(PortAssignment(port_named(port), seat))
    twice = next(
        (one.port for number, one in enumerate(found) if one.port in [two.port for two in found[:number]]), None
    )
    if twice:
        raise CallFault(f"{twice} is named twice")
    return found


def _words(one: PortInfo) -> list[str]:
    return [word for word in (one.port, one.name, one.unit, one.serial, one.stable) if word]


class PortAssignment(msgspec.Struct, frozen=True):
    """A port, and the seat that its module takes (empty: any)."""

    port: str
    seat: str = ""


class NewPorts:
    """The ports that appeared since it was asked last, but for those that were named. One that went and came back is new."""

    def __init__(self, named: Iterable[PortAssignment]) -> None:
        self._there = {one.port for one in found_ports()} | {one.port for one in named}
        self._coming: set[str] = set()

    def __call__(self) -> list[PortAssignment]:
        there = {one.port for one in found_ports()}
        # The system may need a moment to let us open it: it is there when it was seen twice.
        new = there - self._there
        ready = new & self._coming
        self._coming = new - ready
        self._there = (self._there & there) | ready
        return [PortAssignment(port) for port in sorted(ready)]


def key_of(port: str) -> str:
    """What a port is known by: what stays with it when the system gives it another path."""
    device, station = split_station(port)
    if station is not None:
        return f"{key_of(device)}#{station}"
    if "://" in port:
        return port
    real = os.path.realpath(port)
    if real.startswith("/dev/pts/"):
        from wexicon.rigs.control import cards

        units = [(card, unit) for card in cards() for unit, path in card.ports.items() if path == real]
        return f"rig {units[0][0].name}/{units[0][1]}" if units else real
    return next((one.key for one in _machine_ports() if os.path.realpath(one.port) == real), real)


def device_at(port: str) -> DeviceFinder | None:
    """A finder of the device that is at a port now. None for a port that nothing tells from the next one with its path: a
    pseudo-terminal that is no running rig's."""
    key = key_of(port)
    return None if key.startswith("/dev/pts/") else DeviceFinder(key, _marks(port))


def _marks(port: str) -> tuple[object, ...]:
    """What must be the same for a path to be of the same device, where the device has no serial number."""
    real = os.path.realpath(port)
    told = next((one for one in _comports() if os.path.realpath(one.device) == real), None)
    return (told.vid, told.pid, told.location, told.product) if told else ()


class DeviceFinder(msgspec.Struct, frozen=True):
    """Tells where a device is that went away."""

    key: str
    marks: tuple[object, ...]

    def __call__(self) -> str | None:
        """Its path now; None while it is not there, or while another device has its path."""
        if "://" in self.key:
            return self.key
        if not self.key.startswith("/"):
            return next((one.port for one in found_ports() if one.key == self.key), None)
        return self.key if Path(self.key).exists() and _marks(self.key) == self.marks else None


# -- names ----------------------------------------------------------------------------------------------------------


def port_names() -> dict[str, str]:
    """The names of ports, each with what it stands for: those that were given, and those of the bench's settings, which go
    before. Raises Fault where a file is not right."""
    return given_names() | {name: port for name, (port, _) in named_ports().items()}


def given_names() -> dict[str, str]:
    """The names that `wexicon ports --name` gave. Raises Fault where their file is not right."""
    path = config_folder() / _NAME_FILE
    if not path.exists():
        return {}
    source = Source(read_file(path), str(path))
    source.check_top(("format", "port"))
    table = source.data.get("port", {})
    for name, target in table.items() if isinstance(table, dict) else [("", "")]:
        if not isinstance(target, str):
            source.complain(("port", name), "is not a text", 'write bench-left = "/dev/ttyUSB0"')
    source.finish()
    return {str(name): str(target) for name, target in table.items()} if isinstance(table, dict) else {}


def name_port(name: str, text: str) -> str:
    """Gives a port a name; it stands for what stays with the port. Gives what that is. Raises CallFault."""
    if not name or "/" in name or "://" in name or name.upper().startswith("COM"):
        raise CallFault(
            f"{name!r} cannot be the name of a port", hint="Write a word that is no path, such as bench-left."
        )
    target = key_of(port_named(text))
    _write_names({**given_names(), name: target})
    return target


def forget_name(name: str) -> None:
    """Takes a name away. Raises CallFault where there is none."""
    names = given_names()
    if name not in names:
        if name in named_ports():
            raise CallFault(f"{name} is named in {named_ports()[name][1]}", hint="Take it out of that file.")
        raise CallFault(f"no port is called {name}", hint=meant(name, names))
    del names[name]
    _write_names(names)


def _write_names(names: dict[str, str]) -> None:
    lines = [
        f"{msgspec.json.encode(name).decode()} = {msgspec.json.encode(names[name]).decode()}\n"
        for name in sorted(names)
    ]
    write_whole(config_folder() / _NAME_FILE, (_NAMES_HEAD + "".join(lines)).encode())


class KnownLink(msgspec.Struct, frozen=True):
    """The port by what it is known by, how our side was tuned, the line end, the lexicon's name or path ("" for none), and the
    SHA-256 digest of its file, if it is at a path; the mode in which the last session left the module, and whether a peer was
    connected, as far as that was known."""

    key: str
    tuning: Tuning
    end: str = ""
    lexicon: str = ""
    digest: str = ""
    mode: str = ""
    joined: bool = False

    @property
    def has_changed(self) -> bool:
        """Whether the lexicon's file has changed since it was stored: another person may have written it."""
        return self.digest != _digest(self.lexicon)


# What is known of ports in virtual time, while they are there.
IN_MEMORY: dict[str, KnownLink | None] = {}


def _digest(lexicon: str) -> str:
    """The digest of a lexicon's file; none for those that are known by name."""
    if not lexicon.endswith(".toml"):
        return ""
    try:
        return sha256(read_file(Path(lexicon))).hexdigest()
    except CallFault:
        return "gone"


def remembered(port: str) -> KnownLink | None:
    """What is known of a port; None where nothing is."""
    if port in IN_MEMORY:
        return IN_MEMORY[port]
    with suppress(CallFault, ValueError):
        found = read_record(_path(key_of(port)), KnownLink)
        return found if found and Tuning.of(found.tuning.rate, found.tuning.frame) else None
    return None


def remember(port: str, tuning: Tuning, end: str, lexicon: str, mode: str = "", *, joined: bool = False) -> None:
    """Keeps where a module answered, and how it was left. What cannot be kept is not missed."""
    key = key_of(port)
    known = KnownLink(key, tuning, end, lexicon, _digest(lexicon), mode, joined)
    if port in IN_MEMORY:
        IN_MEMORY[port] = known
    elif known != remembered(port):
        with suppress(CallFault):
            # One that is lost is found again.
            write_whole(_path(key), msgspec.json.encode(known), sync=False)


def named(lexicon: Lexicon) -> str:
    """How a lexicon can be named again from anywhere: by its name where that is enough, or by its path."""
    path = Path(lexicon.path).absolute()
    return path.stem if path.parent in (shipped_folder(), user_folder(), *lexicon_folders()) else str(path)


def _path(key: str) -> Path:
    return state_folder() / "links" / f"{sha256(key.encode('utf-8', 'surrogateescape')).hexdigest()[:32]}.json"
