"""Passages that say something new before passages that repeat: a module a kind; `kind` says what one is."""
