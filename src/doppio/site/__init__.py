"""Settings, addresses and the gate: nothing is served to a visitor who is not signed in."""
