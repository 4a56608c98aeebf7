"""Nearly the same passage in several documents, once: a module a rule; `kind` says what one is."""
