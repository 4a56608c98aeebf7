"""Pictures that chunks carry: what they look like, what is said of them, and what can be read on them."""
