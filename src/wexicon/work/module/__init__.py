"""One module by its lexicon: identity, settings, actions, starts."""
