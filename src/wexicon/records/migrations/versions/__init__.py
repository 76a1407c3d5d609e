"""The steps, the oldest first. The rule: a step that was shipped is never changed."""
