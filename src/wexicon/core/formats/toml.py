"""TOML files to typed records, with every fault found in one go and a line number for each.

The rule: a key that is not known is a fault, never passed over; what was probably meant is suggested. A value kind, as in `{
kind = "int", min = 0, max = 9 }`, is looked up by name among those that are registered.
"""

from __future__ import annotations

import re
import tomllib
from collections.abc import Callable, Iterable, Mapping
from enum import EnumMeta
from functools import cache, cached_property
from typing import TYPE_CHECKING, TypeVar

import msgspec

from wexicon.core.faults import Complaint, FileFault
from wexicon.core.text import counted, meant, nearest

if TYPE_CHECKING:
    from wexicon.core.values import Kind

T = TypeVar("T")
_HEADER = re.compile(r"\s*\[\[?\s*(.+?)\s*\]\]?\s*(?:#.*)?")
_KEY = re.compile(r"\s*((?:\"[^\"]*\"|'[^']*'|[A-Za-z0-9_-]+)(?:\s*\.\s*(?:\"[^\"]*\"|[A-Za-z0-9_-]+))*)\s*=")
# No file of ours has such keys, and reading them takes time by the square of their parts.
_MOST_PARTS = 50
_DEEP_KEY = re.compile(rf"(?<![\w\"'-])(?:[\w\"'-]++[ \t]*+\.[ \t]*+){{{_MOST_PARTS}}}", re.ASCII)
_AT = re.compile(r"(?s)(.*?)(?: - at `(key in )?\$?(.*?)`)?$")
_UNKNOWN = re.compile(r"Object contains unknown field `(.+)`")
_MISSING = re.compile(r"Object missing required field `(.+)`")
_ENUM = re.compile(r"Invalid enum value '(.*)'")
_MOST_FAULTS = 60
FORMAT = 1


class Source:
    """One TOML file: its data, and the complaints about it so far."""

    def __init__(self, data: bytes, path: str) -> None:
        self.path = path
        self.complaints: list[Complaint] = []
        # How many complaints there are beyond those that are reported.
        self.more = 0
        self.data: dict[str, object] = {}
        # How text of the file becomes what it stands for, by type; each raises ValueError, with a `hint` if it has one.
        self.makers: Mapping[type, Callable[[object], object]] = {}
        try:
            self.text = data.decode("utf-8")
            if deep := _DEEP_KEY.search(self.text):
                line = self.text.count("\n", 0, deep.start()) + 1
                raise FileFault(path, [Complaint(f"not TOML: a key of more than {_MOST_PARTS} parts", "", line, 1)])
            self.data = tomllib.loads(self.text)
        except UnicodeDecodeError as fault:
            self.text = ""
            raise FileFault(
                path, [Complaint(f"byte {fault.start} is not UTF-8", hint="save the file as UTF-8")]
            ) from None
        except (tomllib.TOMLDecodeError, RecursionError, ValueError) as fault:
            found = re.search(r"\(at line (\d+), column (\d+)\)", str(fault))
            line, column = (int(found[1]), int(found[2])) if found else (0, 0)
            what = re.sub(r"\s*\(at .*\)$", "", str(fault)) or "nested too deep"
            raise FileFault(path, [Complaint(f"not TOML: {what}", "", line, column, self.line(line))]) from None

    def line(self, number: int) -> str:
        """One line of the file."""
        lines = self.text.splitlines()
        return lines[number - 1][:200] if 0 < number <= len(lines) else ""

    @cached_property
    def _lines_of(self) -> dict[tuple[str, ...], int]:
        """The line on which each table and key stands first."""
        found: dict[tuple[str, ...], int] = {}
        table: tuple[str, ...] = ()
        for number, line in enumerate(self.text.splitlines(), 1):
            if line.lstrip().startswith("[") and (header := _HEADER.fullmatch(line)):
                table = _path(header[1])
                here = table
            elif key := _KEY.match(line):
                here = table + _path(key[1])
            else:
                continue
            found.setdefault(here, number)
        return found

    def find(self, place: tuple[str, ...]) -> int:
        """The line on which the table or key stands, or the nearest line above it that can be told; 0 if none."""
        ways = (place[:size] for size in range(len(place), 0, -1))
        return next((self._lines_of[way] for way in ways if way in self._lines_of), 0)

    def check_top(self, known: Iterable[str], what: str = "no such key") -> None:
        """Complains of keys at the top that are not known, and of a format that this Wexicon does not read."""
        keys = tuple(known)
        for key in self.data:
            if key not in keys:
                self.complain((key,), what, self.suggest(key, keys))
        given = self.data.get("format")
        if given is None:
            self.complain(("format",), f"format = {FORMAT} is missing", "write it at the top of the file")
        elif given != FORMAT or isinstance(given, bool):
            self.complain(("format",), f"format {given!r} is not known", f"this Wexicon reads format {FORMAT}")

    def suggest(self, word: str, known: Iterable[str]) -> str:
        """What was probably meant; nothing once there are many complaints, where looking for it takes long."""
        return meant(word, known) if len(self.complaints) < _MOST_FAULTS else ""

    def complain(self, place: tuple[str, ...], what: str, hint: str = "") -> None:
        """Adds a complaint about the table or key at `place`."""
        if len(self.complaints) < _MOST_FAULTS:
            self.complaints.append(Complaint(what, ".".join(place), self.find(place), hint=hint))
        else:
            self.more += 1

    def typed(self, data: object, kind: type[T], place: tuple[str, ...]) -> T | None:
        """`data` as a record of type `kind`; None where that cannot be, with all that is wrong complained of."""
        before = len(self.complaints)
        removed: set[tuple[str, ...]] = set()
        for _ in range(_MOST_FAULTS):
            try:
                made = msgspec.convert(data, kind, strict=True, str_keys=True, dec_hook=self._made)
                return made if len(self.complaints) == before else None
            except msgspec.ValidationError as fault:
                path = self._explain(fault, kind, place, removed)
                if not path or not _remove(data, path):
                    return None
                removed.add(path)
        return None

    def _made(self, kind: type, given: object) -> object:
        return self.makers[kind](given) if kind in self.makers else given

    def _explain(
        self, fault: msgspec.ValidationError, kind: object, place: tuple[str, ...], removed: set[tuple[str, ...]]
    ) -> tuple[str, ...]:
        """Words the complaint plainly; returns the path to remove so that the next fault can be found."""
        message = str(fault)
        found = _AT.match(message)
        what = (found[1] if found else message) or message
        path = tuple(part for part in re.split(r"\.|\[\.\.\.\]|\[(\d+)\]", (found[3] if found else "") or "") if part)
        if unknown := _UNKNOWN.match(what):
            hint = _belongs(kind, unknown[1]) or self.suggest(unknown[1], sorted(names_of(kind)))
            self.complain((*place, *path, unknown[1]), "no such key", hint)
            return (*path, unknown[1])
        if missing := _MISSING.match(what):
            if (*path, missing[1]) not in removed:
                self.complain(place + path, f"the key {missing[1]} is missing")
            return ()
        if enum := _ENUM.match(what):
            known = _choices(kind, path)
            close = nearest(enum[1], known)
            self.complain(
                place + path,
                f"{enum[1]!r} is not one of {', '.join(known)}",
                f"did you mean {close}?" if close else "",
            )
            return path
        self.complain(place + path, what[:1].lower() + what[1:], getattr(fault.__cause__, "hint", ""))
        return path

    def finish(self) -> None:
        """Raises FileFault if there was any complaint."""
        if self.complaints:
            told = sorted(self.complaints, key=lambda c: c.line)
            raise FileFault(self.path, told + [Complaint(f"and {counted(self.more, 'more error')}")] * bool(self.more))


def _path(header: str) -> tuple[str, ...]:
    return tuple(part.strip().strip("\"'") for part in header.split("."))


def _remove(data: object, path: tuple[str, ...]) -> bool:
    for part in path[:-1]:
        if isinstance(data, list):
            data = data[int(part)] if part.isdecimal() and int(part) < len(data) else None
        else:
            data = data.get(part) if isinstance(data, dict) else None
    if isinstance(data, dict) and path[-1] in data:
        del data[path[-1]]
        return True
    return False


def _structs(kind: object) -> list[type]:
    """Every record type that can be reached from `kind`."""
    found: list[type] = []
    waiting = [kind]
    while waiting:
        one = waiting.pop()
        if isinstance(one, type) and issubclass(one, msgspec.Struct):
            if one in found:
                continue
            found.append(one)
            waiting.extend(field.type for field in msgspec.structs.fields(one))
        else:
            waiting.extend(getattr(one, "__args__", ()))
    return found


def _choices(kind: object, path: tuple[str, ...]) -> list[str]:
    """What a key may be: the values of its enum, or its literals."""
    fields = [one for struct in _structs(kind) for one in msgspec.structs.fields(struct) if one.encode_name == path[-1]]
    types = [kind_ for one in fields for kind_ in (one.type, *getattr(one.type, "__args__", ()))]
    choices = [word for one in types for word in (one if isinstance(one, EnumMeta) else getattr(one, "__args__", ()))]
    return [str(word) for word in choices if isinstance(word, str) and word]


@cache
def _belongs(kind: object, name: str) -> str:
    """Where a key is allowed that is in the wrong table; empty if nowhere."""
    tables = [
        field.encode_name
        for struct in _structs(kind)
        for field in msgspec.structs.fields(struct)
        if any(name == one.encode_name for inner in _structs(field.type) for one in msgspec.structs.fields(inner))
    ]
    return f"it is a key of {' and '.join(dict.fromkeys(tables))}" if tables else ""


@cache
def names_of(kind: object) -> frozenset[str]:
    """Every key of every record type that can be reached from `kind`."""
    return frozenset(field.encode_name for struct in _structs(kind) for field in msgspec.structs.fields(struct))


def read_kind(source: Source, data: object, place: tuple[str, ...]) -> Kind | None:
    """The kind that stands at `place`; None where it is none, which was complained of."""
    from wexicon.core.values import KINDS

    if not isinstance(data, dict):
        source.complain(place, "is not a kind of value", 'write value = { kind = "text" }')
        return None
    name = data.get("kind")
    if name is None:
        source.complain(place, "the key kind is missing", f"known: {', '.join(sorted(KINDS))}")
        return None
    if not isinstance(name, str) or name not in KINDS:
        KINDS.complete()
        source.complain((*place, "kind"), f"no such kind of value: {name!r}", meant(str(name), KINDS))
        return None
    made: Kind | None = source.typed(data, KINDS[name], place)
    if made is None:
        return None
    made = made.with_parts(lambda part, below: read_kind(source, part, (*place, *below)))
    wrong = list(made.faults())
    for key, what in wrong:
        source.complain((*place, key), what)
    return None if wrong else made
