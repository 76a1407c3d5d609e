"""The calculations of radio and serial work: one typed function a formula, units in names, the source in the docstring."""
