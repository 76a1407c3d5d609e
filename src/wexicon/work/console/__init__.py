"""The console of wexicon talk, without its terminal."""
