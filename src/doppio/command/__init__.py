"""The command line: every `./doppio ...` lands here."""
