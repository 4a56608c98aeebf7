"""Canonical text, the structure of documents, sentence bounds, and analysis for the sparse index."""
