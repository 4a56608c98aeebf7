"""What happens before anything is installed. The standard library is all that may be used here."""
