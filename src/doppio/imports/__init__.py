"""Files that people bring in: staged, read in the background, each with its own end."""
