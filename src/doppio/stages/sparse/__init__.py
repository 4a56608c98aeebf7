"""Sparse retrieval."""
