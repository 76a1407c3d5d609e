"""The protocol engine: bytes and time come in, events go out. Nothing here opens, prints, sleeps or asks the time."""
