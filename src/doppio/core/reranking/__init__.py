"""Taking a shortlist to a scorer: each kind of scorer is one module."""
