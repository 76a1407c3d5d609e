"""The same work against stand-ins, in virtual time."""
