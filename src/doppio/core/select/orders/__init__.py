"""In which order passages are written into the context: a module an order; `kind` says what one is."""
