"""Settings written for others: a C header, JSON or an environment file for the host's firmware, or a sheet that makes another
module the same.

The rule: names are seat and setting in capitals, all else an underscore, the unit at the end: RELAY_FREQUENCY_HZ. Frequencies
are in hertz, rates in baud, timers in seconds, other durations in milliseconds. A sheet reads back without a fault to the
values that were read. Secrets are left out, and named in a comment.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Iterator, Mapping
from decimal import Decimal

import msgspec

from wexicon.core.formats.lexicon import Lexicon, Setting
from wexicon.core.text import seconds, visible
from wexicon.core.values import UNSET, ClockKind, Content, FileContent, Value, ValueFault
from wexicon.core.values.compound import NOW
from wexicon.core.values.numbers import Int, TimerKind

KINDS = ("c-header", "json", "env")
# Units with a prefix: the unit without, and the factor to it.
UNITS = {
    "MHz": ("HZ", 1_000_000),
    "kHz": ("HZ", 1000),
    "Hz": ("HZ", 1),
    "ms": ("MS", 1),
    "s": ("S", 1),
    "dBm": ("DBM", 1),
    "dB": ("DB", 1),
    "%": ("PERCENT", 1),
    "km": ("M", 1000),
    "m": ("M", 1),
    "baud": ("BAUD", 1),
    "kbit/s": ("BIT_PER_S", 1000),
    "bit/s": ("BIT_PER_S", 1),
}


class HostValue(msgspec.Struct, frozen=True):
    """One value: its name, and the value as a whole number, a decimal, a truth value or a text."""

    name: str
    value: int | float | bool | str


class HostSettings(msgspec.Struct, frozen=True):
    """All of them; `about` are comments for the head, `left_out` the settings that have no value here, each with why."""

    values: tuple[HostValue, ...]
    about: tuple[str, ...]
    left_out: tuple[str, ...]


def host_settings(seats: Mapping[str, tuple[Lexicon, Mapping[str, Value]]], about: tuple[str, ...]) -> HostSettings:
    """The values of several seats; a single seat without a name has none in its names."""
    values: dict[str, HostValue] = {}
    left_out: list[str] = []
    for seat, (lexicon, wanted) in seats.items():
        for name, value in wanted.items():
            setting = lexicon.settings[name]
            told = f"{seat}.{name}" if seat else name
            if setting.secret:
                left_out.append(f"{told}: secret")
            elif value is UNSET or isinstance(value, FileContent):
                left_out.append(f"{told}: {'unset' if value is UNSET else 'a file'}")
            else:
                for one in _values(f"{seat}_{name}" if seat else name, setting, value):
                    if one.name in values:
                        left_out.append(f"{told}: {one.name} is the name of another setting too")
                    values.setdefault(one.name, one)
    return HostSettings(tuple(values.values()), about, tuple(left_out))


def _values(name: str, setting: Setting, value: Value) -> Iterator[HostValue]:
    if isinstance(value, dict):
        for part, one in value.items():
            yield from _plain(f"{name}_{part}", "", one)
        return
    unit = (
        "baud"
        if setting.kind.rates()
        else "s"
        if isinstance(setting.kind, TimerKind)
        else getattr(setting.kind, "unit", "")
    )
    yield from _plain(name, str(unit), value)


def _plain(name: str, unit: str, value: object) -> Iterator[HostValue]:
    if isinstance(value, bool):
        yield HostValue(_name(name), value)
    elif isinstance(value, int | Decimal | float):
        ending, factor = UNITS.get(unit, (unit, 1))
        number = Decimal(str(value)) * factor
        whole = number == number.to_integral_value()
        yield HostValue(_name(f"{name}_{ending}" if ending else name), int(number) if whole else float(number))
    elif (found := _duration(str(value))) is not None:
        yield HostValue(_name(f"{name}_MS"), found)
    else:
        yield HostValue(_name(name), str(value))


def _duration(text: str) -> int | None:
    """A choice that is a duration, such as `200ms`, in milliseconds."""
    if not re.fullmatch(r"[0-9.]+ ?(?:ms|s|min|m|h)", text):
        return None
    try:
        found = seconds(text) * 1000
    except ValueError:
        return None
    return round(found)


def _name(text: str) -> str:
    made = re.sub(r"[^A-Z0-9]+", "_", text.upper()).strip("_")
    return made if made[:1].isalpha() else f"N_{made}"


def written(made: HostSettings, kind: str) -> str:
    """The file of a kind."""
    return {"c-header": _c_header, "json": _json, "env": _env}[kind](made)


def _c_header(made: HostSettings) -> str:
    lines = [f"/* {_in_comment(text)} */" for text in (*made.about, *(f"left out: {one}" for one in made.left_out))]
    lines += ["#ifndef WEXICON_SETTINGS_H", "#define WEXICON_SETTINGS_H", ""]
    width = max([len(one.name) for one in made.values] or [0])
    lines += [f"#define {one.name:{width}} {_in_c(one.value)}" for one in made.values]
    return "\n".join([*lines, "", "#endif", ""])


def _in_comment(text: str) -> str:
    """Text that ends no comment early, and begins no trigraph."""
    return visible(text).replace("*/", "* /").replace("/*", "/ *").replace("??", "? ?")


def _in_c(value: int | float | bool | str) -> str:
    if isinstance(value, bool):
        return "1" if value else "0"
    if isinstance(value, int):
        return str(value) if -(2**31) <= value < 2**31 else f"{value}LL"
    if isinstance(value, float):
        return repr(value)
    made = ""
    for byte in value.encode("utf-8", "surrogateescape"):
        # Three octal digits end by themselves, whatever follows.
        plain = 0x20 <= byte < 0x7F and byte not in b'"\\?'
        made += chr(byte) if plain else f"\\{byte:03o}"
    return f'"{made}"'


def _json(made: HostSettings) -> str:
    data = {
        "about": list(made.about),
        "left_out": list(made.left_out),
        "settings": {one.name: one.value for one in made.values},
    }
    return json.dumps(data, indent=2) + "\n"


def _env(made: HostSettings) -> str:
    fit = [one for one in made.values if _on_one_line(one.value)]
    why = "readers of such files would not all take it as one line of text"
    left_out = (*made.left_out, *(f"{one.name}: {why}" for one in made.values if one not in fit))
    lines = [f"# {visible(text)}" for text in (*made.about, *(f"left out: {one}" for one in left_out))]
    return "\n".join([*lines, *(f"{one.name}={_in_shell(one.value)}" for one in fit), ""])


def _on_one_line(value: int | float | bool | str) -> bool:
    """Whether all readers take this for the same value: shells, services and libraries differ on quotes, on backslashes and on
    what is not seen."""
    return not isinstance(value, str) or (visible(value) == value and not set("'\\") & set(value))


def _in_shell(value: int | float | bool | str) -> str:
    if isinstance(value, str):
        return f"'{value}'"
    return str(int(value)) if isinstance(value, bool) else str(value)


def sheet_text(title: str, seat: str, lexicon: str, settings: Iterable[tuple[Setting, Value | None]]) -> str:
    """A sheet with one seat. A setting without a value (None), or that cannot be written, stands as a comment."""
    lines = ["format = 1", f"title  = {_toml(title)}", "", f"[seat.{seat}]", f"lexicon = {_toml(lexicon)}", ""]
    lines.append(f"[seat.{seat}.settings]")
    for setting, value in settings:
        if not setting.writable:
            lines.append(f"# {setting.name}: cannot be written" + _shown(setting, value))
        elif setting.secret and value is UNSET:
            lines.append(f'{setting.name} = "unset"')
        elif setting.secret and isinstance(setting.kind, Content):
            lines.append(f'# {setting.name}: is a file: write {{ file = "FILE" }}')
        elif setting.secret:
            told = "" if setting.readable else "  # it cannot be read"
            lines.append(f"{setting.name} = {{ prompt = {_toml(setting.name)} }}{told}")
        elif isinstance(setting.kind, ClockKind):
            lines.append(f'{setting.name} = "{NOW}"')
        elif value is None:
            lines.append(f"# {setting.name}: " + ("was not read" if setting.readable else "cannot be read"))
        elif why := _unwritable(setting, value):
            lines.append(f"# {setting.name}: {visible(str(value))} {why}")
        else:
            hexadecimal = isinstance(setting.kind, Int) and setting.kind.base == 16
            lines.append(f"{setting.name} = {setting.kind.show(value).split()[0] if hexadecimal else _toml(value)}")
    return "\n".join(lines) + "\n"


def _shown(setting: Setting, value: Value | None) -> str:
    return f"; it was {visible(setting.show(value))}" if value is not None else ""


def _unwritable(setting: Setting, value: Value) -> str:
    """Why a value that was read cannot be in a sheet; empty if it can."""
    if isinstance(value, FileContent):
        return 'is a file: write { content = "FILE" }'
    if isinstance(value, str) and any("\ud800" <= char <= "\udfff" for char in value):
        return "is not UTF-8, and cannot be written in a sheet"
    try:
        same = setting.check("unset" if value is UNSET else value) == value
    except ValueFault as fault:
        return f"{visible(fault.why)}; allowed: {visible(fault.allowed)}"
    return "" if same else "reads back otherwise"


def _toml(value: object) -> str:
    """A plain value as TOML."""
    if value is UNSET:
        return '"unset"'
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, Decimal):
        return f"{value:f}"
    if isinstance(value, int):
        return str(value)
    if isinstance(value, list):
        return f"[{', '.join(map(_toml, value))}]"
    if isinstance(value, Mapping):
        return "{ " + ", ".join(f"{name} = {_toml(part)}" for name, part in value.items()) + " }"
    # Braces would be filled in.
    text = str(value).replace("{", "{{").replace("}", "}}")
    return msgspec.json.encode(text).decode().replace("\x7f", "\\u007F")
