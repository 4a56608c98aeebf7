"""Labelled questions, and labels that move with their documents."""
