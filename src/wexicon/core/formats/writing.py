"""A sheet written from what a module keeps, so that another module can be made the same.

The rule: what is written reads back as a sheet without a fault, to the very values that were read; what cannot be written so
is a comment with the reason. A secret is never written: the sheet says that it is asked for.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from decimal import Decimal

import msgspec

from wexicon.core.formats.lexicon import Setting
from wexicon.core.text import visible
from wexicon.core.values import UNSET, Clock, Content, FileContent, Value, ValueFault
from wexicon.core.values.lists import NOW
from wexicon.core.values.numbers import Int


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
        elif isinstance(setting.kind, Clock):
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
