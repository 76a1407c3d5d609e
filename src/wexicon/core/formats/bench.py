"""`wexicon.toml`: what is the same for all work of a project, or of a person.

The rule: no secret stands in it.
"""

from __future__ import annotations

import re

import msgspec

from wexicon.core.durations import seconds
from wexicon.core.formats.toml import Source

OPERATORS = ("person", "rig", "nobody")
EVIDENCE = ("auto", "power", "restart", "reading", "twice")
# A password in the URL of a database.
_PASSWORD = re.compile(r"://[^/@]*:[^/@]+@|[?&]password=", re.IGNORECASE)


class ReportTable(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """`[report]`: the `title` of reports."""

    title: str = ""


class BenchFile(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A whole `wexicon.toml`. `register` is a file or the URL of a database; `lexicons` are folders of lexicons; `fixture` a
    fixture file; `operator` who operates keys and power (person, rig, nobody), `patience` how long that is waited for; `prove`
    the evidence that is required where settings are written; `bench` what this bench is called in a shared register; `ports`
    names of ports. Paths begin at the file's own folder."""

    format: int
    register: str = ""
    lexicons: list[str] = msgspec.field(default_factory=list)
    fixture: str = ""
    operator: str = ""
    patience: str = ""
    prove: str = ""
    bench: str = ""
    ports: dict[str, str] = msgspec.field(default_factory=dict)
    report: ReportTable = ReportTable()


def read_bench(data: bytes, path: str) -> BenchFile:
    """Reads a `wexicon.toml`. Raises FileFault with everything that is wrong."""
    source = Source(data, path)
    source.check_top(BenchFile.__struct_fields__)
    source.finish()
    made = source.typed(source.data, BenchFile, ())
    if made:
        for name, known in (("operator", OPERATORS), ("prove", EVIDENCE)):
            given = getattr(made, name)
            if given and given not in known:
                source.complain((name,), f"{given!r} is not one of {', '.join(known)}", source.suggest(given, known))
        if made.patience:
            try:
                seconds(made.patience)
            except ValueError as fault:
                source.complain(("patience",), str(fault))
        if _PASSWORD.search(made.register):
            hint = "leave it out; the database's own password file or PGPASSWORD has it"
            source.complain(("register",), "a password must not stand in this file", hint)
    source.finish()
    assert made
    return made
