"""Loops and containers that several parts share."""
