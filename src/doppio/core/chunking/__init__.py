"""Cutting documents into chunks: exact ranges of their text, one module a rule."""
