"""Stand-ins behind a TCP port: the bytes alone."""

from __future__ import annotations

import socket

from tests.conftest import bench, wexicon

RIG = '[unit.mast]\nstandin = "lindle-l9"\nserve = "tcp"\n'


def test_a_plain_socket_has_the_rate_of_the_stand_in_and_keeps_it() -> None:
    with bench(RIG) as rig:
        port = rig.ports["mast"]
        assert port.startswith("socket://127.0.0.1:")
        with socket.create_connection(("127.0.0.1", int(port.rpartition(":")[2])), 5) as client:
            said = client.makefile("rwb", buffering=0)
            for line, answer in (
                ("@uart=57600", "@ok"),
                ("@uart?", "@uart 57600"),
                ("@name=quay", "@ok"),
            ):
                said.write(f"{line}\n".encode())
                assert said.readline().decode().strip() == answer


def test_a_module_behind_a_plain_socket_is_read_and_a_second_client_is_turned_away() -> None:
    with bench(RIG) as rig:
        port = rig.ports["mast"]
        assert "LINDLE-L9" in wexicon("readout", port, "-l", "lindle-l9").stdout.upper()
        address = ("127.0.0.1", int(port.rpartition(":")[2]))
        with socket.create_connection(address, 5) as first, socket.create_connection(address, 5) as second:
            first.sendall(b"@name?\n")
            assert first.recv(1) == b"@" and second.recv(1) == b""
