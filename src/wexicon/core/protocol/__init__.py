"""The protocol engine: bytes and time come in, observations go out. It owns no port, no clock and no thread."""
