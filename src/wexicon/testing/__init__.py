"""For tests of firmware: what it says to a module is observed at a stand-in, and asserted; `plugin` gives it to pytest."""
