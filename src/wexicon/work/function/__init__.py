"""What a module does: dialogues, actions, traffic."""
