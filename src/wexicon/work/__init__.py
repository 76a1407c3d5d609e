"""What is done with modules: getting attention, identifying, reading, writing, proving, running dialogues."""
