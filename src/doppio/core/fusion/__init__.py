"""Fusion: a module a method; `kind` says what a method is and finds them."""
