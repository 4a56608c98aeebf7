"""Dense structures: a module a kind; `kind` says what one is and finds them."""
