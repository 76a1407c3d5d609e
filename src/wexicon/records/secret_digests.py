"""Digests of secrets, so that the values of two units can be compared between runs without being kept.

The rule: a digest is keyed (HMAC-SHA-256, RFC 2104), and the key is in the operator's state folder, never in the register:
with both, all PINs could be tried. What was made with another key is not compared.
"""

from __future__ import annotations

import contextlib
import hmac
import os
from hashlib import sha256
from pathlib import Path

from wexicon.core.faults import CallFault
from wexicon.files import write_new

_LENGTH = 32


class SecretDigests:
    """Digests with the key in this folder; it is made when it is first needed."""

    def __init__(self, folder: Path) -> None:
        self._path = folder / "digest.key"
        self._key: bytes | None = None

    @property
    def key(self) -> bytes:
        """The key. Raises OSError if it can be neither read nor made."""
        if self._key is None:
            # Two processes may make it at once: it is whole when it has its name, and the first one counts.
            with contextlib.suppress(CallFault):
                write_new(self._path, os.urandom(_LENGTH))
            self._key = self._path.read_bytes()
        return self._key

    @property
    def key_name(self) -> str:
        """What tells one key from another, and nothing of it."""
        return hmac.new(self.key, b"name", sha256).hexdigest()[:16]

    def of(self, sheet: str, setting: str, value: object) -> str:
        """The digest of a setting's value in the units of a sheet."""
        text = "\0".join((sheet, setting, str(value)))
        return hmac.new(self.key, text.encode("utf-8", "surrogateescape"), sha256).hexdigest()[:32]
