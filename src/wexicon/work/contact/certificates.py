"""Warnings about certificates that a sheet loads and that expire soon.

The rule: what is no certificate is passed over; nothing is said of one that is good for long.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import UTC, datetime

from wexicon.core.text import counted
from wexicon.core.values import FileContent, Value

# How many days before it expires a certificate gets a warning.
SOON = 90
MARK = b"-----BEGIN CERTIFICATE-----"


def expiries(wanted: Mapping[str, Value]) -> Iterator[str]:
    """A note for each setting whose certificate has expired, is not valid yet, or expires soon."""
    for name, value in wanted.items():
        data = value.data if isinstance(value, FileContent) else None
        if not data or MARK not in data:
            continue
        from cryptography.x509 import load_pem_x509_certificates

        try:
            made = load_pem_x509_certificates(data)
        except ValueError:
            yield f"{name}: the certificate cannot be read"
            continue
        now = datetime.now(UTC)
        for one in made:
            begins, ends = one.not_valid_before_utc, one.not_valid_after_utc
            if ends <= now:
                yield f"{name}: the certificate expired on {ends:%Y-%m-%d}"
            elif begins > now:
                yield f"{name}: the certificate is not valid before {begins:%Y-%m-%d}"
            elif (ends - now).days < SOON:
                yield f"{name}: the certificate expires on {ends:%Y-%m-%d}, in {counted((ends - now).days, 'day')}"
