"""Commands: they read files, call the layers below, and print. No rule of the trade lives here."""
