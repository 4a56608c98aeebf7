"""Encoders and joint scorers, and the folder format that they load from."""
