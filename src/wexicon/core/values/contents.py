"""The kind of a setting that is a file on the module: a certificate, a key, a script.

The rule: files are compared by the digest that the module tells; a value is that digest, and carries its bytes where they are
ours.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from hashlib import sha1, sha256
from zlib import crc32

from wexicon.core.text import counted, to_bytes, to_text
from wexicon.core.values.base import Kind, Value

DIGESTS = {
    "sha256": lambda data: sha256(data).hexdigest(),
    "sha1": lambda data: sha1(data, usedforsecurity=False).hexdigest(),
    "crc32": lambda data: f"{crc32(data):08x}",
}
# How many digits of a digest are shown.
SHOWN = 16


class FileContent(str):
    """A digest in capitals; `data` are the bytes, None where only the module has them."""

    data: bytes | None = None


class Content(Kind, frozen=True, tag="content"):
    """A file of at most `max_bytes`, known by its `digest`: sha256, sha1 or crc32, in hexadecimal."""

    digest: str = "sha256"
    max_bytes: int = 65_536

    def faults(self) -> Iterator[tuple[str, str]]:
        if self.digest not in DIGESTS:
            yield "digest", f"{self.digest!r} is not one of {', '.join(DIGESTS)}"
        if not 0 < self.max_bytes <= 1_048_576:
            yield "max_bytes", f"{self.max_bytes} is not from 1 to 1048576"

    @property
    def free(self) -> bool:
        return True

    def check(self, value: object) -> Value:
        if isinstance(value, FileContent):
            return value
        if not isinstance(value, str) or not value:
            raise self.fault(value if not isinstance(value, str) else "", "is not the content of a file")
        data = to_bytes(value)
        if len(data) > self.max_bytes:
            raise self.fault(f"a file of {counted(len(data), 'byte')}", "is too long")
        made = FileContent(DIGESTS[self.digest](data).upper())
        made.data = data
        return made

    def encode(self, value: Value) -> str:
        data = getattr(value, "data", None)
        if data is None:
            raise self.fault(self.show(value), "is a file whose content is not known here")
        return to_text(data)

    def decode(self, text: str) -> Value:
        size = len(DIGESTS[self.digest](b"")) if self.digest in DIGESTS else 0
        if not re.fullmatch(rf"[0-9A-Fa-f]{{{size}}}", text):
            raise self.fault(text, f"is no {self.digest}")
        return FileContent(text.upper())

    def allowed(self) -> str:
        return f"a file of 1 to {counted(self.max_bytes, 'byte')}"

    def show(self, value: Value) -> str:
        return f"{self.digest} {str(value)[:SHOWN]}"
