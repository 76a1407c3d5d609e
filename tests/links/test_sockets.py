"""Sockets that wait for clients: for those of this machine, and for others only where that was allowed."""

from __future__ import annotations

import socket

import pytest

from wexicon.core.faults import CallFault
from wexicon.links.sockets import LISTEN_VARIABLE, open_socket


@pytest.mark.parametrize("host", ["0.0.0.0", "[::]", "255.255.255.255"])
def test_other_machines_can_connect_only_where_that_was_allowed(host: str, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv(LISTEN_VARIABLE, "192.0.2.7")
    with pytest.raises(CallFault, match="other machines could connect there") as fault:
        open_socket(f"listen://{host}:0")
    assert f"--allow-listening {host.strip('[]')} COMMAND" in fault.value.hint


def test_an_address_that_was_allowed_is_served_and_the_client_is_told(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setenv(LISTEN_VARIABLE, "192.0.2.7 0.0.0.0")
    peers: list[str] = []
    for host in ("0.0.0.0", "localhost"):
        with open_socket(f"listen://{host}:0") as link:
            link.accepted = peers.append  # type: ignore[attr-defined]
            with socket.create_connection(("127.0.0.1", int(link.name.rpartition(":")[2]))) as client:
                client.sendall(b"tide")
                assert link.read(link.clock.now() + 5) == b"tide"
                assert peers.pop() == f"127.0.0.1:{client.getsockname()[1]}"
