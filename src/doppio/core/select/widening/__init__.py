"""Handing on more than the hit: a module a kind; `kind` says what one is."""
