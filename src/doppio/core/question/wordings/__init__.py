"""Ways to say a question otherwise: a module a way."""
