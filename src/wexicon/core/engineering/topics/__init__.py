"""What `wexicon calc` works out, by subject; each file has the topics of one subject."""
