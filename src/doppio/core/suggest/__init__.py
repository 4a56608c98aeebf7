"""Which questions could be asked of a document? Each rule is one module; a person decides what becomes of them."""
