"""The version of this package; semantic: what `import wexicon` gives, the formats and the exit statuses stay within one major
version."""

__version__ = "1.0.0"
