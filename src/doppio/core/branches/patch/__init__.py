"""Sheets that chunks stand on, patch by patch: what is made of them, and how they are searched."""
