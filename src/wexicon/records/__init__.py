"""What is stored: the trace of a session, the register of units, and what is drawn from them."""
