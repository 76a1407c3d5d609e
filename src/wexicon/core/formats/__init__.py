"""The files that people write, read and checked: lexicons, sheets, fixtures."""
