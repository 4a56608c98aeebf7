"""Plain facts of a question and a passage that weights can be fitted to: each fact is one module."""
