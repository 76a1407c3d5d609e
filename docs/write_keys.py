"""Writes docs/keys.md: every key of every file that Wexicon reads, from the code that reads it.

    python docs/write_keys.py

The rule: the page is made of the structs and their docstrings and of nothing else; tests/docs holds it to that.
"""

from __future__ import annotations

import re
import types
import typing
from enum import Enum
from pathlib import Path
from typing import Any

import msgspec

from wexicon.core.formats import fixture, sheet
from wexicon.core.formats import fixture as bench_file
from wexicon.core.formats.lexicon import phrase, tables, wiring
from wexicon.core.protocol import speech
from wexicon.core.standards import cellular as timers
from wexicon.core.values import KINDS, coded, compound, texts
from wexicon.rigs import air, uart
from wexicon.rigs import rig as bench

HEAD = """# Every key

Made from the code that reads the files, by `python docs/write_keys.py`. [lexicon.md](lexicon.md) has examples,
[sheet.md](sheet.md) tells of sheets, [rig.md](rig.md) of rigs and fixtures. A key that is in no table here is an error.
"""
# What a key may be, where its type says too little.
ALLOWED = {
    ("AttentionTable", "how"): tuple(tables.AttentionBy),
    ("SettingTable", "moves_link"): tuple(one for one in tables.Moves if one),
    ("Speech", "end"): speech.LINE_ENDS,
    ("Speech", "echo"): speech.ECHOES,
    ("Speech", "closing"): speech.CLOSINGS,
    ("Speech", "quotes"): speech.QUOTES,
    ("Speech", "answer"): ("lines", "silence 60ms", "sentences", "bytes 20ms"),
    ("GroupTable", "checksum"): ("sum", "xor"),
    ("TimerKind", "form"): tuple(timers.UNITS),
    ("Text", "charset"): texts.CHARSETS,
    ("Address", "order"): texts.ORDERS,
    ("Pin", "line"): fixture.LINES,
    ("SettingsFile", "operator"): bench_file.OPERATORS,
    ("SettingsFile", "prove"): bench_file.EVIDENCE,
    **{(kind, "codes_are"): coded.CODES_ARE for kind in ("ChoiceKind", "Rate", "FrameKind")},
}
DURATIONS = ("within", "guard", "window", "lasts", "hold", "rest", "settles", "moves_after", "wakes_within", "patience")
# What a key is that a file says as text.
TEXTS: dict[Any, str] = {
    phrase.Duration: "a duration: `300ms`, `2s`, `3m`, `1h`",
    phrase.Part: "a part: `first 2`, `last 4`",
    phrase.Pattern: "a pattern",
    phrase.Template: "text to say",
    phrase.Heard: "a pattern, or a list of patterns",
}
FILES = {
    "Lexicons": (
        tables.LexiconFile, tables.About, tables.Link, tables.Start, tables.AttentionTable, speech.Speech,
        speech.More, speech.MarkTable, speech.LengthTable, speech.ChecksumTable, speech.StationTable, speech.NumberTable,
        tables.Identify, tables.Writing, phrase.Phrase, tables.SettingTable, phrase.Granted, tables.BitField,
        tables.GroupTable, tables.ActionTable, tables.TrafficTable, tables.ListeningTable, tables.MessageTable,
        tables.TimerTable, tables.Stream, wiring.WiringTable,
    ),
    "Sheets": (sheet.SheetFile, sheet.SeatTable, sheet.AgreeTable, sheet.DrawnTable),
    "Fixtures": (fixture.FixtureFile, fixture.Pin, fixture.Input, fixture.Bridge, fixture.After),
    "Settings of a bench: wexicon.toml": (bench_file.SettingsFile, bench_file.ReportTable),
    "Rigs": (
        bench.RigFile, bench.UnitTable, bench.BoardTable, uart.WireFaults,
        air.AirTable, air.AccessPoint, air.Network, air.Sky, air.Management,
    ),
}  # fmt: skip


def page() -> str:
    """The whole page."""
    made = HEAD
    for title, structs in FILES.items():
        made += f"\n## {title}\n" + "".join(map(_table, structs))
    made += "\n## Kinds of values\n"
    for name in sorted(KINDS):
        made += _table(typing.cast(Any, KINDS[name]), f'kind = "{name}"')
    return made + _table(compound.Field, "a field of a tuple")


def _table(struct: Any, title: str = "") -> str:
    about = re.sub(r"\s+", " ", struct.__doc__ or "").strip()
    heading = re.match(r"`(\[[^`]+\])`:?\s*", about)
    layer = issubclass(struct, speech.LayerTable) and struct.__struct_config__.tag
    title = title or (
        f'layer = "{layer}"' if layer else heading[1] if heading else re.sub(r"(Table|File)$", "", struct.__name__)
    )
    about = about[heading.end() :] if heading else about
    made = f"\n### `{title}`\n\n{about[:1].upper()}{about[1:]}\n"
    fields = msgspec.structs.fields(struct)
    if fields:
        made += "\n| key | values | if left out |\n|---|---|---|\n"
    for one in fields:
        made += f"| `{one.encode_name}` | {_values(struct, one)} | {_default(one)} |\n"
    return made


def _values(struct: Any, field: Any) -> str:
    allowed = ALLOWED.get((struct.__name__, field.encode_name))
    if allowed:
        return ", ".join(f"`{word}`" for word in allowed)
    if field.encode_name in DURATIONS and field.type is str:
        return TEXTS[phrase.Duration]
    return _words(field.type)


def _words(kind: Any) -> str:
    """A type in words."""
    plain = {str: "text", int: "whole number", float: "number", bool: "true, false", Any: "any value", type(None): ""}
    if kind in TEXTS:
        return TEXTS[kind]
    if kind in plain:
        return plain[kind]
    origin, parts = typing.get_origin(kind), [one for one in typing.get_args(kind) if one is not Ellipsis]
    if origin in (typing.Union, types.UnionType):
        return " or ".join(filter(None, dict.fromkeys(map(_words, parts))))
    if origin is typing.Literal:
        return ", ".join(f"`{one}`" for one in parts)
    if origin in (tuple, list):
        return f"list of {_words(parts[0])}"
    if origin is dict:
        return f"table: name = {_words(parts[1])}"
    if origin is typing.Annotated:
        return _words(parts[0])
    if isinstance(kind, type) and issubclass(kind, Enum):
        return ", ".join(f"`{one.value}`" for one in kind)
    return f"`{re.sub(r'Table$', '', kind.__name__)}`"


def _default(field: Any) -> str:
    if field.default is msgspec.NODEFAULT and field.default_factory is msgspec.NODEFAULT:
        return "must be given"
    value = field.default if field.default is not msgspec.NODEFAULT else field.default_factory()
    if isinstance(value, phrase.Duration) and value:
        return f"`{value:g}s`" if value >= 1 else f"`{value * 1000:g}ms`"
    if isinstance(value, msgspec.Struct):
        return "its own defaults"
    if value in ("", None, (), {}) or isinstance(value, (phrase.Duration, phrase.Part)):
        return "none"
    if isinstance(value, bool):
        return f"`{str(value).lower()}`"
    return f"`{', '.join(map(str, value))}`" if isinstance(value, tuple) else f"`{value}`"


if __name__ == "__main__":
    (Path(__file__).parent / "keys.md").write_text(page())
