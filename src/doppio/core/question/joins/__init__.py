"""How a branch's rankings for several wordings become one: a module a way; `kind` says what one is."""
