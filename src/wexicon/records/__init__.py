"""What is kept: the trace of a session."""
