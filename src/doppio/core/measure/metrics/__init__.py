"""How good is a ranking? Each metric is one module; larger is better everywhere, from 0 to 1."""
