"""What is known of a module: lines sent to it are read by its lexicon, and observations become its state."""
