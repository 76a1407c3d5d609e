"""Drafts of lexicons."""
