"""Chunks."""
