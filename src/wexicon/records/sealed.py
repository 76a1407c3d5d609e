"""Secrets on disk: the hand-over file, encrypted with a password, and keyed digests, so that the values of two units can be
compared between runs without being kept.

The rule: a secret is on the disk here, synced, before a module is told it. The file is JSON: a salt, and a Fernet token
(AES-128-CBC with HMAC-SHA-256) whose key is derived from the password by scrypt (RFC 7914). Nothing in it is readable without
the password, and nothing can be changed unnoticed. A digest is keyed (HMAC-SHA-256, RFC 2104), and the key is in the
operator's state folder, never in the register: with both, all PINs could be tried.
"""

from __future__ import annotations

import base64
import contextlib
import copy
import hmac
import os
from collections.abc import Callable
from hashlib import sha256
from pathlib import Path
from typing import TypeVar

import msgspec

from wexicon.core.faults import CallFault
from wexicon.core.text import to_bytes
from wexicon.files import locked, read_file, write_new, write_whole

FORMAT = 1
# The costs of a guess (RFC 7914, 2): N, r and p. 64 MiB and about a tenth of a second.
_COSTS = {"n": 2**16, "r": 8, "p": 1}
_SALT = 16

Answer = TypeVar("Answer")


READ_BACK, ACKNOWLEDGED, DOUBTFUL = "read back", "acknowledged", "doubtful"


class HandedOver(msgspec.Struct):
    """One secret: of which module, what that is called in which sheet, which setting, its value, when it was drawn (UTC),
    whether it may be printed on the unit's label, and what is known of the module: it was `read back`, it was `acknowledged`
    and cannot be read, or it is `doubtful` whether the module has it."""

    unit: str
    name: str
    sheet: str
    setting: str
    value: str
    at: str
    label: bool = False
    state: str = DOUBTFUL


class _Sealed(msgspec.Struct):
    format: int
    salt: str
    token: str


class HandOverFile:
    """The hand-over file at a path."""

    def __init__(self, path: Path, password: str) -> None:
        self.path = path
        self._password = password
        self._salt = b""
        self._key = b""

    def secrets(self) -> list[HandedOver]:
        """All secrets of the file; none if there is no file yet. Raises CallFault."""
        from cryptography.fernet import Fernet, InvalidToken

        if not self.path.exists():
            return []
        try:
            sealed = msgspec.json.decode(read_file(self.path), type=_Sealed)
            salt = base64.b64decode(sealed.salt, validate=True)
        except (msgspec.DecodeError, ValueError):
            raise CallFault("is not a hand-over file", where=str(self.path)) from None
        if sealed.format != FORMAT or len(salt) != _SALT:
            raise CallFault("is of another version of Wexicon", where=str(self.path))
        try:
            data = Fernet(self._key_for(salt)).decrypt(to_bytes(sealed.token))
            return msgspec.json.decode(data, type=list[HandedOver])
        except InvalidToken:
            hint = "If the password is right, the file was changed."
            raise CallFault("cannot be opened with this password", where=str(self.path), hint=hint) from None
        except msgspec.DecodeError:
            raise CallFault("holds something else than secrets", where=str(self.path)) from None

    def change(self, act: Callable[[list[HandedOver]], Answer]) -> Answer:
        """Lets `act` change the list of secrets, while no other process does, and writes it. Raises CallFault."""
        from cryptography.fernet import Fernet

        with locked(self.path):
            secrets = self.secrets()
            before = copy.deepcopy(secrets)
            answer = act(secrets)
            if secrets != before:
                key = self._key_for(self._salt or os.urandom(_SALT))
                token = Fernet(key).encrypt(msgspec.json.encode(secrets)).decode()
                sealed = _Sealed(FORMAT, base64.b64encode(self._salt).decode(), token)
                write_whole(self.path, msgspec.json.encode(sealed), own=False)
            return answer

    def _key_for(self, salt: bytes) -> bytes:
        from cryptography.hazmat.primitives.kdf.scrypt import Scrypt

        if salt != self._salt:
            derived = Scrypt(salt=salt, length=32, **_COSTS).derive(to_bytes(self._password))
            self._salt, self._key = salt, base64.urlsafe_b64encode(derived)
        return self._key


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
            self._key = read_file(self._path)
        return self._key

    @property
    def key_name(self) -> str:
        """What tells one key from another, and nothing of it."""
        return hmac.new(self.key, b"name", sha256).hexdigest()[:16]

    def of(self, sheet: str, setting: str, value: object) -> str:
        """The digest of a setting's value in the units of a sheet."""
        text = "\0".join((sheet, setting, str(value)))
        return hmac.new(self.key, text.encode("utf-8", "surrogateescape"), sha256).hexdigest()[:32]
