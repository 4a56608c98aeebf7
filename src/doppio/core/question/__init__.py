"""What happens before the search: conditions, search terms, other wordings."""
