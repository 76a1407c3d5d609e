"""Files on a module as settings: certificates and keys, compared by digest, loaded by length, deleted, and kept secret."""

from __future__ import annotations

import json
from datetime import UTC, datetime, timedelta
from hashlib import sha256
from pathlib import Path

import pytest
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

from tests.conftest import virtual, wexicon
from wexicon.core.values import Content, ValueFault

SCREEN = '[unit.screen]\nstandin = "brisca-w1"\n'
SHEET = (
    'format = 1\n[seat.screen]\nlexicon = "brisca-w1"\n'
    'settings = { name = "screen", ca-certificate = { content = "ca.pem" }, client-key = { file = "client.key" } }\n'
)


def certificate(days: int, begins: int = -1) -> tuple[bytes, bytes]:
    """A certificate that ends in so many days, and its key."""
    key = ec.generate_private_key(ec.SECP256R1())
    name = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "harbour.example")])
    now = datetime.now(UTC)
    made = (
        x509.CertificateBuilder()
        .subject_name(name)
        .issuer_name(name)
        .public_key(key.public_key())
        .serial_number(1)
        .not_valid_before(now + timedelta(days=begins, minutes=-1))
        .not_valid_after(now + timedelta(days=days, hours=1))
        .sign(key, hashes.SHA256())
    )
    private = key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )
    return made.public_bytes(serialization.Encoding.PEM), private


@pytest.fixture(autouse=True)
def _files(tmp_path: Path) -> None:
    made, key = certificate(400)
    Path("ca.pem").write_bytes(made)
    Path("client.key").write_bytes(key)
    Path("s.toml").write_text(SHEET)


def test_a_sheet_loads_what_differs_and_proves_it_by_the_digest() -> None:
    with virtual(SCREEN) as rig:
        words = ("s.toml", rig.ports["screen"], "--operator", "rig")
        made = json.loads(wexicon("provision", *words, "--json", "--trace", "t.jsonl").stdout)
        assert made["verdict"] == "conforms"
        kept = rig.rig.units["screen"].standin.flash["files"]
        assert bytes.fromhex(kept["ca"]) == Path("ca.pem").read_bytes()
        # A secret's last line end is no part of it.
        assert bytes.fromhex(kept["key"]) == Path("client.key").read_bytes().rstrip()
        digest = sha256(Path("ca.pem").read_bytes()).hexdigest().upper()
        (line,) = [one for one in made["settings"] if one["name"] == "ca-certificate"]
        assert (
            line["after"]["value"] == digest
            and line["before"]["shown"] == "unset"
            and digest[:16] in line["after"]["shown"]
        )
        again = json.loads(wexicon("provision", *words, "--json").stdout)
        assert again["written"] == 0 and again["verdict"] == "conforms"
        # Another file is found out, and another key.
        rig.call(lambda: kept.update(ca=b"another one".hex()))
        assert "ca-certificate" in wexicon("verify", *words, status=1).stderr
    private = Path("client.key").read_text().splitlines()[1:-1]
    seen = Path("t.jsonl").read_text() + json.dumps(made)
    assert private and not any(part in seen for part in private)


def test_a_file_that_is_not_wanted_any_more_is_deleted() -> None:
    Path("s.toml").write_text(SHEET.replace('{ content = "ca.pem" }', '"unset"'))
    with virtual(SCREEN) as rig:
        rig.rig.units["screen"].standin.flash["files"] = {"ca": b"x".hex()}
        rig.rig.units["screen"].standin.memory["files"] = {"ca": b"x".hex()}
        wexicon("provision", "s.toml", rig.ports["screen"], "--operator", "rig")
        assert "ca" not in rig.rig.units["screen"].standin.flash["files"]


def test_what_is_too_long_or_not_there_is_told_before_anything_is_sent() -> None:
    Path("ca.pem").write_bytes(b"x" * 8193)
    assert "'a file of 8193 bytes' is too long" in wexicon("rehearse", "s.toml", status=2).stderr
    Path("ca.pem").unlink()
    assert "ca.pem: cannot be read" in wexicon("rehearse", "s.toml", status=2).stderr
    Path("s.toml").write_text(SHEET.replace("ca.pem", "../ca.pem"))
    assert "outside the sheet's folder" in wexicon("rehearse", "s.toml", status=2).stderr


@pytest.mark.parametrize(
    ("days", "begins", "told"),
    [(20, -1, "expires on"), (-5, -30, "expired on"), (400, 3, "is not valid before"), (400, -1, "")],
)
def test_the_expiry_of_a_certificate_is_told(days: int, begins: int, told: str) -> None:
    Path("ca.pem").write_bytes(certificate(days, begins)[0])
    heard = wexicon("rehearse", "s.toml").stderr
    assert (f"ca-certificate: the certificate {told}" in heard) if told else "certificate" not in heard


def test_a_digest_is_compared_in_any_letters_and_a_wrong_one_is_not_understood() -> None:
    for digest, text in (("crc32", "CBF43926"), ("sha1", "f7c3bc1d808e04732adf679965ccc34ca7ae3441")):
        kind = Content(digest=digest)
        assert kind.check("123456789") == kind.decode(text.lower()) == kind.decode(text.upper())
        assert kind.encode(kind.check("123456789")) == "123456789"
        with pytest.raises(ValueFault):
            kind.decode(text[:-1])
        with pytest.raises(ValueFault):
            kind.encode(kind.decode(text))


def test_files_are_listed_and_deleted_by_hand() -> None:
    with virtual(SCREEN) as rig:
        words = ("do", rig.ports["screen"], "-l", "brisca-w1")
        wexicon(*words, "load-file", "name=script", "content=blink 3")
        listed = wexicon(*words, "files").stdout
        assert "script" in listed and sha256(b"blink 3").hexdigest() in listed
        wexicon(*words, "delete-file", "name=script")
        assert "there is no such file" in wexicon(*words, "delete-file", "name=script", status=1).stderr


def test_a_digest_that_was_read_is_never_taken_for_a_file() -> None:
    with virtual(SCREEN) as rig:
        port = rig.ports["screen"]
        wexicon("set", port, "-l", "brisca-w1", "--file", "ca-certificate=ca.pem")
        kept = rig.rig.units["screen"].standin.flash["files"]
        assert bytes.fromhex(kept["ca"]) == Path("ca.pem").read_bytes().rstrip()
        assert "is a file" in wexicon("set", port, "-l", "brisca-w1", "ca-certificate=AB12", status=2).stderr
        wexicon("readout", port, "-l", "brisca-w1", "-o", "r.toml")
        assert (
            "# ca-certificate: " in Path("r.toml").read_text()
            and "is a file: write { content" in Path("r.toml").read_text()
        )
        wexicon("set", port, "-l", "brisca-w1", "ca-certificate=unset")
        assert "ca" not in rig.rig.units["screen"].standin.flash["files"]
    Path("s.toml").write_text(SHEET.replace('{ content = "ca.pem" }', '"AB12"'))
    assert "is a file, and no text" in wexicon("rehearse", "s.toml", status=2).stderr
