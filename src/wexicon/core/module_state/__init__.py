"""What is known of a module: what is said to it is read by its lexicon, and what is observed becomes its state."""
