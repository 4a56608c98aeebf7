"""What goes into the context: each rule is one module."""
