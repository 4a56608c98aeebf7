"""Fusion."""
